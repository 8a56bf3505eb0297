package service

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/keeper"
)

// Whether this host is fit for arrays.

// leastFiles is how many descriptors a service should be able to have: members, clients, and room.
const leastFiles = 4096

// Fit looks whether this host is fit. Nothing is written but by a measurement, which was asked for.
func (s *Service) Fit(q control.FitRequest) (*control.FitReply, error) {
	out := &control.FitReply{Time: s.opt.Now(), Service: s.opt.Stays, Items: []control.FitItem{}}
	add := func(about, verdict, found, mend string) {
		if verdict == control.FitFine {
			mend = ""
		}
		out.Items = append(out.Items, control.FitItem{About: about, Verdict: verdict, Found: found, Mend: mend})
	}
	s.fitSystem(add)
	s.fitAlerts(add)
	s.fitDisks(add)
	if q.Measure != "" {
		if err := s.fitFlush(q.Measure, add); err != nil {
			return nil, err
		}
	}
	order := []string{control.FitBad, control.FitConcern, control.FitFine}
	slices.SortStableFunc(out.Items, func(x, y control.FitItem) int {
		return cmp.Compare(slices.Index(order, x.Verdict), slices.Index(order, y.Verdict))
	})
	return out, nil
}

type judge func(about, verdict, found, mend string)

func (s *Service) fitSystem(add judge) {
	who := "this command"
	if s.opt.Stays {
		who = "the service"
	}
	if os.Geteuid() == 0 {
		add("rights", control.FitFine, who+" runs as root", "")
	} else {
		add("rights", control.FitConcern, fmt.Sprintf("%s runs as user %d: it has files, and those devices that this user may open; it cannot attach arrays", who, os.Geteuid()), "run the service as root, as the package does")
	}
	s.fitKeeper(add)
	if not := keeper.Steady(); len(not) > 0 {
		for _, why := range not {
			add("memory", control.FitConcern, fmt.Sprintf("of %s: %s", who, why), "run the service by its unit, which has what it needs")
		}
	} else {
		add("memory", control.FitFine, fmt.Sprintf("that of %s is not swapped out, and its writing is not throttled", who), "")
	}
	fitAttaching(add)
	fitLinks(add)
	var limit unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) == nil {
		if limit.Cur < leastFiles {
			add("descriptors", control.FitConcern, fmt.Sprintf("%s may have %d open files; %d are safe for many disks and clients", who, limit.Cur, leastFiles), "raise LimitNOFILE of the unit, or ulimit -n")
		} else {
			add("descriptors", control.FitFine, fmt.Sprintf("%s may have %d open files", who, limit.Cur), "")
		}
	}
	fitClock(add)
	var st unix.Statfs_t
	if unix.Statfs(s.opt.Home, &st) == nil {
		if free := int64(st.Bavail) * int64(st.Bsize); free < 256<<20 {
			add("home", control.FitConcern, fmt.Sprintf("%s has %s free", s.opt.Home, say.Size(free)), "make room: the history and the notes of the service stand there")
		} else {
			add("home", control.FitFine, fmt.Sprintf("%s has %s free", s.opt.Home, say.Size(free)), "")
		}
	}
}

func (s *Service) fitKeeper(add judge) {
	k, err := keeper.Dial(s.opt.Home)
	if err != nil {
		add("keeper", control.FitFine, "none runs; the first attach starts one, or nidalo-keeper.service", "")
		return
	}
	switch st, err := k.State(false, keeper.AnswerTime); {
	case err != nil:
		add("keeper", control.FitBad, err.Error(), "systemctl restart nidalo-keeper, when nothing is attached")
	case len(st.Unsteady) > 0:
		add("keeper", control.FitConcern, strings.Join(st.Unsteady, "; "), "run it by its unit, which has what it needs")
	default:
		add("keeper", control.FitFine, fmt.Sprintf("process %d, version %s, %s", st.PID, st.Program, say.Count(len(st.Devices), "device", "devices")), "")
	}
}

func fitAttaching(add judge) {
	_, kernel := os.Stat("/sys/module/nbd")
	_, fuse := os.Stat("/dev/fuse")
	_, loop := os.Stat("/dev/loop-control")
	loadable := kernel == nil || exec.Command("modprobe", "-n", "-q", "nbd").Run() == nil
	switch {
	case kernel == nil:
		add("attaching", control.FitFine, "the kernel's client of the block protocol is loaded (nbd)", "")
	case loadable:
		add("attaching", control.FitFine, "the kernel's client of the block protocol can be loaded (nbd)", "")
	case fuse == nil && loop == nil:
		add("attaching", control.FitConcern, "this kernel has no client of the block protocol (nbd); arrays are attached in user space, and such a device ends with the keeper", "use a kernel with the module nbd")
	default:
		add("attaching", control.FitBad, "arrays cannot be attached: there is neither the module nbd, nor fuse with loop", "modprobe nbd, or modprobe fuse and modprobe loop")
	}
}

func fitLinks(add judge) {
	if _, err := os.Stat("/run/udev/control"); err != nil {
		return
	}
	for _, folder := range []string{"/usr/lib/udev/rules.d", "/lib/udev/rules.d", "/etc/udev/rules.d"} {
		if _, err := os.Stat(filepath.Join(folder, "60-nidalo.rules")); err == nil {
			add("links", control.FitFine, "udev makes the links in /dev/nidalo", "")
			return
		}
	}
	add("links", control.FitConcern, "udev has no rule for the links in /dev/nidalo: the keeper makes them, and systemd does not know them in fstab", "install packaging/60-nidalo.rules, as the package does")
}

func (s *Service) fitAlerts(add judge) {
	a := s.config().Alerts
	if len(a.Email)+len(a.Webhook)+len(a.Command) == 0 {
		add("alerts", control.FitConcern, "no message goes out when a disk fails", "name an address, a webhook or a command in nidalo.toml, then try it with: nidalo alerts -test")
		return
	}
	reach := func(what, address string) {
		c, err := net.DialTimeout("tcp", address, 5*time.Second)
		if err != nil {
			add("alerts", control.FitBad, fmt.Sprintf("%s: %s cannot be reached: %v", what, address, err), "check the address and the network, then: nidalo alerts -test")
			return
		}
		_ = c.Close()
		add("alerts", control.FitFine, fmt.Sprintf("%s: %s can be reached", what, address), "")
	}
	for _, e := range a.Email {
		reach(e.String(), e.Server)
	}
	for _, w := range a.Webhook {
		if u, err := url.Parse(w.URL); err == nil {
			reach(w.String(), net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), map[string]string{"http": "80"}[u.Scheme], "443")))
		}
	}
	for _, c := range a.Command {
		if info, err := os.Stat(c.Run[0]); err != nil || info.Mode()&0o111 == 0 {
			add("alerts", control.FitBad, fmt.Sprintf("%s cannot be run", c), "install it, or name another in nidalo.toml")
		} else {
			add("alerts", control.FitFine, fmt.Sprintf("%s is there", c), "")
		}
	}
}

// quickest is how soon a disk with turning platters can have written a block that it was just told: on the average half a turn at 15,000
// turns a minute is 2 ms, and a block that has just been written comes round again after a whole one.
const quickest = time.Millisecond

func (s *Service) fitDisks(add judge) {
	patience := time.Duration(s.config().Limits.Hung)
	if patience == 0 {
		patience = disk.DefaultPatience.Hung
	}
	for _, d := range s.seen.Devices(true).Sorted() {
		if !d.Whole() || d.Bus == "loop" || d.Bus == "mapped" || keeper.OwnName(d.Name) != "" {
			continue
		}
		name := strings.Join(slices.DeleteFunc([]string{d.Model, d.Named()}, func(x string) bool { return x == "" }), " ")
		switch most, err := disk.Recovery(d.Path); {
		case errors.Is(err, disk.ErrNotSaid), errors.Is(err, disk.ErrAsleep):
		case err != nil:
			add("disk "+name, control.FitConcern, fmt.Sprintf("it cannot be asked: %v", err), "give the service the right to open it")
		case most == 0:
			add("disk "+name, control.FitConcern, fmt.Sprintf("it may try for minutes to read a bad place: it has no limit of its own. A member that does not answer for %s is given up", patience), "set its error-recovery time to 7 s, where it lets you, at every start of the host")
		case most >= patience:
			add("disk "+name, control.FitConcern, fmt.Sprintf("it tries for up to %s to read a bad place, and is given up after %s", most, patience), "set its error-recovery time lower, or limits.hung in nidalo.toml higher")
		default:
			add("disk "+name, control.FitFine, fmt.Sprintf("it gives up a bad place after %s, sooner than it is given up itself (%s)", most, patience), "")
		}
		if kernel := disk.KernelTimeout(d.Name); kernel > 0 && kernel < patience {
			add("disk "+name, control.FitConcern, fmt.Sprintf("the kernel resets it after %s, before its patience of %s is over", kernel, patience), fmt.Sprintf("echo %d >/sys/block/%s/device/timeout", int(patience.Seconds())*2, d.Name))
		}
		if flushed, own := disk.Cache(d.Name); !flushed && strings.HasPrefix(own, "write back") {
			add("disk "+name, control.FitBad, "it has a volatile write cache, and the system does not flush it, so a power cut loses flushed data", fmt.Sprintf("echo 'write back' >/sys/block/%s/queue/write_cache", d.Name))
		}
	}
}

// fitFlush measures the flushes of a blank disk.
func (s *Service) fitFlush(name string, add judge) error {
	src, err := s.seen.Locate(name)
	if err != nil {
		return err
	}
	s.lookAt(src)
	disks, err := s.Disks()
	if err != nil {
		return err
	}
	i := slices.IndexFunc(disks, func(d control.DiskInfo) bool { return d.Path == src.Path && src.Path != "" })
	if i < 0 || disks[i].State != state.DiskBlank {
		return &control.Error{What: fmt.Sprintf("disk %s is not blank: flushes are measured by writing", say.Quote(name)), Hints: []string{"nidalo disks   shows which disks are blank"}}
	}
	took, err := disk.FlushTime(src.Path, 51)
	if err != nil {
		return person(err)
	}
	d := disks[i]
	about := "flushes of " + d.Identity.String()
	turns := d.Hardware != nil && d.Hardware.Rotating != nil && *d.Hardware.Rotating
	switch {
	case turns && took < quickest:
		add(about, control.FitBad, fmt.Sprintf("a block is confirmed as durable after %s, sooner than platters can turn: it is not, unless its cache survives a power cut", took.Round(time.Microsecond)), "turn its write cache off, or do not use it where the power can fail")
	case turns:
		add(about, control.FitFine, fmt.Sprintf("a block is durable after %s, as platters turn", took.Round(10*time.Microsecond)), "")
	default:
		add(about, control.FitFine, fmt.Sprintf("a block is confirmed as durable after %s; for a disk without platters there is no way to verify that", took.Round(time.Microsecond)), "")
	}
	return nil
}
