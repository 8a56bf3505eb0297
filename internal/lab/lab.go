// Package lab is a simulated enclosure: bays, disks and faults, all in a folder. Disks are sparse files, so that large
// ones can be simulated, and everything above package disk works with them as with real ones.
//
//	HOME/lab/A3/disk.img     the disk in bay A3
//	HOME/lab/A3/disk.json    its model, serial, size and faults
//	HOME/lab/A3/signal       32 bytes, mapped by every process that has the disk open: a change counter, an insertion counter, whether the
//	                         disk sleeps, and how often it was woken
//	HOME/lab/A3/light        there while the light of the bay is on
//	HOME/lab/clock           there while the time of the lab stands still, and where
//	HOME/lab/drawer/SERIAL   disks that were pulled, the same three files
//
// The signal is how a pull in one process is felt by another at once, without either knowing of the other.
package lab

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/core/health"
	"nidalo/core/state"
)

// Lab is the enclosure in one folder.
type Lab struct{ dir string }

// Disk is what stands beside the image.
type Disk struct {
	Model  string          `json:"model"`
	Serial string          `json:"serial"`
	Size   int64           `json:"size"`
	Faults Faults          `json:"faults"`
	Health health.Readings `json:"health"` // what the disk says of itself
}

// Faults is what is wrong with a disk.
type Faults struct {
	Unreadable []Range       `json:"unreadable,omitempty"` // until written again
	FailWrites bool          `json:"fail_writes,omitempty"`
	Rate       int64         `json:"rate,omitempty"`    // bytes per second, both ways together
	Latency    time.Duration `json:"latency,omitempty"` // added to every operation, nanoseconds
	Hang       bool          `json:"hang,omitempty"`    // operations do not come back until this is taken away
}

func (f *Faults) any() bool {
	return len(f.Unreadable) > 0 || f.FailWrites || f.Rate > 0 || f.Latency > 0 || f.Hang
}

// Range is a stretch of a disk in bytes, on block boundaries.
type Range struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

const (
	image      = "disk.img"
	label      = "disk.json"
	signal     = "signal"
	drawer     = "drawer"
	light      = "light"
	clock      = "clock" // when there is one, the time stands where it says
	blockSize  = 4096
	signalSize = 32
)

// ErrNoLab says that there is no lab in this home.
var ErrNoLab = errors.New("there is no lab here; make one with: nidalo lab new")

// At is the lab in a home directory, whether or not it exists.
func At(home string) *Lab { return &Lab{filepath.Join(home, "lab")} }

// Exists says whether there is a lab.
func (l *Lab) Exists() bool {
	info, err := os.Stat(l.dir)
	return err == nil && info.IsDir()
}

// Now is the time by the lab's clock, or the host's where the lab has none.
func (l *Lab) Now() time.Time {
	raw, err := os.ReadFile(filepath.Join(l.dir, clock))
	if err != nil {
		return time.Now()
	}
	at, err := time.Parse(time.RFC3339, strings.TrimSpace(string(raw)))
	if err != nil {
		return time.Now()
	}
	return at
}

// SetClock stops the lab's clock at a time; the zero time has it go with the host's again.
func (l *Lab) SetClock(at time.Time) error {
	path := filepath.Join(l.dir, clock)
	if at.IsZero() {
		err := os.Remove(path)
		if errors.Is(err, os.ErrNotExist) {
			err = nil
		}
		return err
	}
	if err := os.WriteFile(path+".new", []byte(at.Format(time.RFC3339)+"\n"), 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// models are invented; a new disk takes the next.
var models = []struct{ name, prefix string }{{"Tamarack TK-4000", "TMK"}, {"Orrery OR-8T", "ORR"}, {"Quern QN-12", "QRN"}}

// New makes a lab of bays full of blank disks: A1…A8, B1…B8 and so on.
func (l *Lab) New(bays int, size int64) error { return l.NewFrom(firstSerial, bays, size) }

// firstSerial is the number in the serial of a lab's first disk, unless it is told otherwise.
const firstSerial = 193

// serials is the file in a lab that keeps the number of its first disk.
const serials = "serials"

// NewFrom is New with another number in the serial of the first disk: labs of several homes have other disks then.
func (l *Lab) NewFrom(serial, bays int, size int64) error {
	if serial < 1 || serial > 9000 {
		return fmt.Errorf("serials from %d on: from 1 to 9000", serial)
	}
	if bays < 1 || bays > 26*8 {
		return fmt.Errorf("%d bays: a lab has 1 to %d", bays, 26*8)
	}
	if l.Exists() {
		return fmt.Errorf("there is a lab already in %s; remove that folder to start over", l.dir)
	}
	if err := os.MkdirAll(filepath.Join(l.dir, drawer), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(l.dir, serials), fmt.Appendf(nil, "%d\n", serial), 0o600); err != nil {
		return err
	}
	for i := range bays {
		bay := fmt.Sprintf("%c%d", 'A'+i/8, i%8+1)
		if err := os.Mkdir(filepath.Join(l.dir, bay), 0o700); err != nil {
			return err
		}
		if _, err := l.Insert(bay, size, ""); err != nil {
			return err
		}
	}
	return nil
}

var bayName = regexp.MustCompile(`^[A-Z][1-9][0-9]?$`)

// Bays lists the bays in order.
func (l *Lab) Bays() ([]string, error) {
	entries, err := os.ReadDir(l.dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil, ErrNoLab
	}
	if err != nil {
		return nil, err
	}
	var out []string
	for _, e := range entries {
		if e.IsDir() && bayName.MatchString(e.Name()) {
			out = append(out, e.Name())
		}
	}
	slices.SortFunc(out, func(x, y string) int {
		if x[0] != y[0] {
			return int(x[0]) - int(y[0])
		}
		nx, _ := strconv.Atoi(x[1:])
		ny, _ := strconv.Atoi(y[1:])
		return nx - ny
	})
	return out, nil
}

func (l *Lab) bay(bay string) (string, error) {
	dir := filepath.Join(l.dir, bay)
	if !l.Exists() {
		return "", ErrNoLab
	}
	if info, err := os.Stat(dir); !bayName.MatchString(bay) || err != nil || !info.IsDir() {
		bays, _ := l.Bays()
		return "", fmt.Errorf("there is no bay %q; the lab has %s", bay, strings.Join(bays, " "))
	}
	return dir, nil
}

// ImagePath is where the image of the disk in a bay is.
func (l *Lab) ImagePath(bay string) string { return filepath.Join(l.dir, bay, image) }

// ErrEmpty says that a bay has no disk.
var ErrEmpty = errors.New("the bay is empty")

// Disk tells what is in a bay; ErrEmpty when nothing is.
func (l *Lab) Disk(bay string) (Disk, error) {
	dir, err := l.bay(bay)
	if err != nil {
		return Disk{}, err
	}
	return readLabel(dir)
}

func readLabel(dir string) (Disk, error) {
	var d Disk
	buf, err := os.ReadFile(filepath.Join(dir, label))
	if errors.Is(err, os.ErrNotExist) {
		return d, fmt.Errorf("%s: %w", filepath.Base(dir), ErrEmpty)
	}
	if err != nil {
		return d, err
	}
	if err := json.Unmarshal(buf, &d); err != nil {
		return d, fmt.Errorf("%s: not a lab disk's label: %v; repair it, or pull the disk and remove it", filepath.Join(dir, label), err)
	}
	return d, nil
}

// writeLabel replaces the label whole, so that a reader never sees half of it.
func writeLabel(dir string, d Disk) error {
	buf, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		return err
	}
	temporary := filepath.Join(dir, label+".new")
	if err := os.WriteFile(temporary, append(buf, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(temporary, filepath.Join(dir, label))
}

// Drawer lists the disks that were pulled.
func (l *Lab) Drawer() ([]Disk, error) {
	entries, err := os.ReadDir(filepath.Join(l.dir, drawer))
	if err != nil {
		return nil, ErrNoLab
	}
	var out []Disk
	for _, e := range entries {
		if d, err := readLabel(filepath.Join(l.dir, drawer, e.Name())); err == nil {
			out = append(out, d)
		}
	}
	return out, nil
}

// Pull takes the disk out of a bay and puts it into the drawer. Whoever has it open gets errors from then on.
func (l *Lab) Pull(bay string) (Disk, error) {
	dir, err := l.bay(bay)
	if err != nil {
		return Disk{}, err
	}
	d, err := readLabel(dir)
	if err != nil {
		return d, err
	}
	s, err := mapSignal(dir)
	if err != nil {
		return d, err
	}
	defer s.close()
	to := filepath.Join(l.dir, drawer, d.Serial)
	if err := os.MkdirAll(to, 0o700); err != nil {
		return d, err
	}
	s.insertion.Add(1) // odd: out
	for _, name := range []string{image, signal, label} {
		if err := os.Rename(filepath.Join(dir, name), filepath.Join(to, name)); err != nil {
			return d, err
		}
	}
	return d, nil
}

// Insert puts a disk into an empty bay: the one with the given serial from the drawer, or a new blank one of the given
// size.
func (l *Lab) Insert(bay string, size int64, serial string) (Disk, error) {
	dir, err := l.bay(bay)
	if err != nil {
		return Disk{}, err
	}
	if d, err := readLabel(dir); err == nil {
		return d, fmt.Errorf("bay %s has %s %s in it; pull it first", bay, d.Model, d.Serial)
	} else if !errors.Is(err, ErrEmpty) {
		return d, err
	}
	if serial != "" {
		return l.insertFromDrawer(dir, serial)
	}
	if size < 8<<20 {
		return Disk{}, fmt.Errorf("a disk of %d bytes: it must have at least 8MiB", size)
	}
	d := l.newLabel(size)
	f, err := os.OpenFile(filepath.Join(dir, image), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return d, err
	}
	defer f.Close()
	if err := f.Truncate(size &^ (blockSize - 1)); err != nil {
		return d, err
	}
	d.Size = size &^ (blockSize - 1)
	if err := os.WriteFile(filepath.Join(dir, signal), make([]byte, signalSize), 0o600); err != nil {
		return d, err
	}
	return d, writeLabel(dir, d)
}

func (l *Lab) insertFromDrawer(dir, serial string) (Disk, error) {
	from := filepath.Join(l.dir, drawer, filepath.Base(serial))
	d, err := readLabel(from)
	if err != nil {
		var have []string
		all, _ := l.Drawer()
		for _, d := range all {
			have = append(have, d.Serial)
		}
		if len(have) == 0 {
			return d, fmt.Errorf("disk %s is not in the drawer, which is empty", serial)
		}
		return d, fmt.Errorf("disk %s is not in the drawer; it has %s", serial, strings.Join(have, " "))
	}
	move := func(name string) error { return os.Rename(filepath.Join(from, name), filepath.Join(dir, name)) }
	if err := errors.Join(move(image), move(signal)); err != nil {
		return d, err
	}
	s, err := mapSignal(dir)
	if err != nil {
		return d, err
	}
	defer s.close()
	s.insertion.Add(1) // even: in, before anybody sees it there
	err = move(label)
	_ = os.Remove(from)
	return d, err
}

// newLabel draws model and serial: models in turn, serials that no disk of the lab has.
func (l *Lab) newLabel(size int64) Disk {
	used := map[string]bool{}
	count := 0
	note := func(d Disk, err error) {
		if err == nil {
			used[d.Serial] = true
			count++
		}
	}
	bays, _ := l.Bays()
	for _, b := range bays {
		note(l.Disk(b))
	}
	all, _ := l.Drawer()
	for _, d := range all {
		note(d, nil)
	}
	m := models[count%len(models)]
	first := firstSerial
	if text, err := os.ReadFile(filepath.Join(l.dir, serials)); err == nil {
		if n, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil {
			first = n
		}
	}
	for n := first + 7*count; ; n++ {
		if serial := fmt.Sprintf("%s-%04d", m.prefix, n); !used[serial] {
			return Disk{Model: m.name, Serial: serial, Size: size, Health: newHealth(n)}
		}
	}
}

// newHealth is what a disk that is fine says of itself; n makes disks differ a little.
func newHealth(n int) health.Readings {
	zero, hours, degrees, speed := func() *int64 { return new(int64) }, int64(400+n%97*31), float64(29+n%6), 6.0
	return health.Readings{Reallocated: zero(), Pending: zero(), Uncorrectable: zero(), LinkErrors: zero(), Temperature: &degrees,
		PowerOnHours: &hours, LinkSpeed: &speed, LinkBest: &speed}
}

// change edits the label of the disk in a bay and tells the processes that have it open.
func (l *Lab) change(bay string, edit func(dir string, d *Disk) error) error {
	dir, err := l.bay(bay)
	if err != nil {
		return err
	}
	d, err := readLabel(dir)
	if err != nil {
		return err
	}
	if err := edit(dir, &d); err != nil {
		return err
	}
	if err := writeLabel(dir, d); err != nil {
		return err
	}
	s, err := mapSignal(dir)
	if err != nil {
		return err
	}
	defer s.close()
	s.changes.Add(1)
	return nil
}

// Rest says whether the disk in a bay sleeps, and how often it was woken.
func (l *Lab) Rest(bay string) (asleep bool, woken uint64, err error) {
	dir, err := l.bay(bay)
	if err != nil {
		return false, 0, err
	}
	s, err := mapSignal(dir)
	if err != nil {
		return false, 0, err
	}
	defer s.close()
	return s.asleep.Load() != 0, s.woken.Load(), nil
}

// Unreadable makes ranges unreadable until they are written again.
func (l *Lab) Unreadable(bay string, ranges []Range) error {
	return l.change(bay, func(_ string, d *Disk) error {
		for _, r := range ranges {
			if err := d.within(r); err != nil {
				return err
			}
		}
		d.Faults.Unreadable = append(d.Faults.Unreadable, ranges...)
		return nil
	})
}

// Corrupt changes bytes on the disk without any sign of it, now.
func (l *Lab) Corrupt(bay string, ranges []Range, seed uint64) error {
	return l.change(bay, func(dir string, d *Disk) error {
		f, err := os.OpenFile(filepath.Join(dir, image), os.O_RDWR, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		r := rand.New(rand.NewPCG(seed, 1))
		for _, rg := range ranges {
			if err := d.within(rg); err != nil {
				return err
			}
			buf := make([]byte, rg.Length)
			if _, err := f.ReadAt(buf, rg.Offset); err != nil {
				return err
			}
			for i := range buf {
				buf[i] ^= byte(1 + r.IntN(255))
			}
			if _, err := f.WriteAt(buf, rg.Offset); err != nil {
				return err
			}
		}
		return nil
	})
}

func (d Disk) within(r Range) error {
	if r.Offset < 0 || r.Length < 1 || r.Offset > d.Size || r.Length > d.Size-r.Offset {
		return fmt.Errorf("%d bytes at %d do not lie on a disk of %d bytes", r.Length, r.Offset, d.Size)
	}
	return nil
}

// SetFaults changes the faults that are not ranges.
func (l *Lab) SetFaults(bay string, edit func(*Faults)) error {
	return l.change(bay, func(_ string, d *Disk) error { edit(&d.Faults); return nil })
}

// SetHealth changes what the disk in a bay says of itself.
func (l *Lab) SetHealth(bay string, edit func(*health.Readings)) error {
	return l.change(bay, func(_ string, d *Disk) error { edit(&d.Health); return nil })
}

// WrittenRanges draws n single blocks from where the image has data, so that damage hits something. When there is no
// data it draws from all of the disk.
func (l *Lab) WrittenRanges(bay string, n int, seed uint64) ([]Range, error) {
	d, err := l.Disk(bay)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(l.ImagePath(bay))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var written []Range
	for at := int64(0); at < d.Size; {
		start, err := unix.Seek(int(f.Fd()), at, seekData)
		if err != nil {
			break
		}
		end, err := unix.Seek(int(f.Fd()), start, seekHole)
		if err != nil {
			end = d.Size
		}
		// The records at both ends and the journal are left alone: damage there is another matter.
		if from := max(start, 6<<20); from < min(end, d.Size-(1<<20)) {
			written = append(written, Range{from, min(end, d.Size-(1<<20)) - from})
		}
		at = end
	}
	if len(written) == 0 {
		written = []Range{{0, d.Size}}
	}
	r := rand.New(rand.NewPCG(seed, 2))
	out := make([]Range, n)
	for i := range out {
		w := written[r.IntN(len(written))]
		out[i] = Range{(w.Offset + r.Int64N(max(w.Length, 1))) &^ (blockSize - 1), blockSize}
	}
	return out, nil
}

// Identity is how the disk in a bay is known.
func (l *Lab) Identity(bay string, d Disk) state.Identity {
	return state.Identity{Path: l.ImagePath(bay), Bay: bay, Model: state.Printable(d.Model), Serial: state.Printable(d.Serial)}
}

// Mark names what is in a bay so that a change of disk changes it: empty when nothing is. It does not touch the disk.
func (l *Lab) Mark(bay string) (string, error) {
	dir, err := l.bay(bay)
	if err != nil {
		return "", err
	}
	d, err := readLabel(dir)
	if err != nil {
		return "", err
	}
	s, err := mapSignal(dir)
	if err != nil {
		return "", err
	}
	defer s.close()
	return fmt.Sprintf("%s/%d/%d", d.Serial, d.Size, s.insertion.Load()), nil
}

// Light switches the light of a bay. It shines on whether or not a disk is in it.
func (l *Lab) Light(bay string, on bool) error {
	dir, err := l.bay(bay)
	if err != nil {
		return err
	}
	path := filepath.Join(dir, light)
	if !on {
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	return os.WriteFile(path, nil, 0o600)
}

// Lit says whether the light of a bay is on.
func (l *Lab) Lit(bay string) bool {
	_, err := os.Stat(filepath.Join(l.dir, bay, light))
	return err == nil
}
