package service

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/disk"
)

// Spare is a disk that waits for a member to fail, by its serial or else its path, since disks move.
type Spare struct {
	Disk   string   `json:"disk" toml:"disk"`     // serial or path
	Arrays []string `json:"arrays" toml:"arrays"` // none: all
	// AlthoughBad: it was made a spare in spite of what is known of it.
	AlthoughBad bool `json:"although_bad,omitempty" toml:"although_bad"`
}

// serves says whether the spare is meant for an array.
func (p Spare) serves(name string) bool { return len(p.Arrays) == 0 || slices.Contains(p.Arrays, name) }

// memory is what the service remembers in its home from one start to the next, besides what members carry.
type memory struct {
	Arrays []string          `json:"arrays"` // identities of arrays that belong to this home
	Out    []string          `json:"out"`    // of those, the ones taken out of service with stop
	Spares []Spare           `json:"spares"`
	Paces  map[string]string `json:"paces"` // schedules by array; "" for all
	// Took notes where a spare stepped in: by array and serial of the disk that took over, the serial of the one that failed.
	Took     map[string]string `json:"took"`
	Vets     []Vetting         `json:"vets,omitempty"`
	Surfaces []Surface         `json:"surface_tests,omitempty"`
	Swaps    []diskSwap        `json:"disk_replacements,omitempty"`
	Names    map[string]string `json:"names"` // of the arrays that belong to this home, by identity
	Bad      map[string]string `json:"bad"`   // disks that failed, by serial or path, and why
	Quiet    map[string]string `json:"quiet"` // acknowledged conditions and the state they had
}

func (s *Service) memoryPath() string { return filepath.Join(s.opt.Home, "service.json") }

func (s *Service) recall() error {
	s.mem.Paces, s.mem.Took, s.mem.Quiet = map[string]string{}, map[string]string{}, map[string]string{}
	s.mem.Names, s.mem.Bad = map[string]string{}, map[string]string{}
	buf, err := os.ReadFile(s.memoryPath())
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(buf, &s.mem)
		for _, m := range []*map[string]string{&s.mem.Paces, &s.mem.Took, &s.mem.Quiet, &s.mem.Names, &s.mem.Bad} {
			if *m == nil { // as an edited file may say
				*m = map[string]string{}
			}
		}
	}
	if err != nil {
		return &Error{What: fmt.Sprintf("%s cannot be read: %v", s.memoryPath(), err), Hints: []string{"repair or remove it: arrays are found by what their disks carry; spares and paces must be set again"}}
	}
	return nil
}

// change edits the memory and writes it down, whole or not at all. Nobody waits for the disk of the home but others who do
// the same.
func (s *Service) change(edit func(*memory)) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	edit(&s.mem)
	buf, err := json.MarshalIndent(s.mem, "", "  ")
	s.mu.Unlock()
	if err != nil {
		return err
	}
	temporary := s.memoryPath() + ".new"
	f, err := os.OpenFile(temporary, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(buf, '\n'))
	err = errors.Join(err, f.Sync(), f.Close())
	if err != nil {
		return err
	}
	return os.Rename(temporary, s.memoryPath())
}

// spares is all that was assigned, here and in the configuration.
func (s *Service) spares() []Spare {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append(slices.Clone(s.mem.Spares), s.config().Spares...)
}

func (s *Service) spareOf(info DiskInfo) (Spare, bool) {
	for _, p := range s.spares() {
		if p.Disk == info.Serial && info.Serial != "" || p.Disk == info.Path || p.Disk == info.Bay && info.Bay != "" {
			return p, true
		}
	}
	return Spare{}, false
}

// noteBad remembers that a disk failed, however often it is erased.
func (s *Service) noteBad(id disk.Identity, why string) {
	if err := s.change(func(m *memory) { m.Bad[cmp.Or(id.Serial, id.Path)] = why }); err != nil {
		s.opt.Log.Warn("it cannot be noted that a disk failed", "disk", id.String(), "reason", err)
	}
}

// badBecause is why a disk had better not be trusted again: it failed, or was found bad when it was vetted. A proof to the
// end with nothing wrong makes it good again.
func (s *Service) badBecause(id disk.Identity) string {
	name := cmp.Or(id.Serial, id.Path)
	if v, ok := s.vetting(name); ok && !v.Ended.IsZero() {
		switch {
		case v.Errors > 0:
			return fmt.Sprintf("its vetting found %d pieces wrong", v.Errors)
		case len(v.Failing) > 0:
			return "it says of itself: " + strings.Join(v.Failing, "; ")
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.mem.Bad[name]
}

// good leaves out the disks that failed before.
func (s *Service) good(disks []DiskInfo) []DiskInfo {
	return slices.DeleteFunc(slices.Clone(disks), func(d DiskInfo) bool { return s.badBecause(d.Identity) != "" })
}

func badDisk(id disk.Identity, why string) error {
	return &Error{What: fmt.Sprintf("disk %s is not to be trusted: %s", id, why),
		Hints: []string{"nidalo vet " + Argument(id) + "   proves whether it is good all the same", "-although-bad takes it as it is"}}
}

// key is the name by which a disk is remembered.
func key(d DiskInfo) string { return cmp.Or(d.Serial, d.Path) }

// AssignSpare makes a blank disk the hot spare of some arrays, or of all; or releases it.
func (s *Service) AssignSpare(req SpareRequest) (*SpareReply, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	src, err := s.locate(req.Disk)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	if req.Release {
		if _, ok := s.spareOf(info); !ok {
			return nil, &Error{What: fmt.Sprintf("disk %s is no spare", info.Identity)}
		}
		err := s.change(func(m *memory) {
			m.Spares = slices.DeleteFunc(m.Spares, func(p Spare) bool { return p.Disk == info.Serial || p.Disk == info.Path })
		})
		return &SpareReply{Disk: info}, err
	}
	if info.State == DiskEmpty {
		return nil, &Error{What: fmt.Sprintf("bay %s is empty", req.Disk)}
	}
	if info.State != DiskBlank && info.State != DiskSpare {
		return nil, notBlank(info)
	}
	if why := s.badBecause(info.Identity); why != "" && !req.AlthoughBad {
		return nil, badDisk(info.Identity, why)
	}
	reply := &SpareReply{Disk: info}
	for _, name := range req.Arrays {
		if _, err := s.named(name); err != nil {
			return nil, err
		}
	}
	for _, r := range s.running() {
		if !(Spare{Arrays: req.Arrays}).serves(r.Name()) || !r.Geometry().Redundant() {
			continue
		}
		short := int64(0)
		for _, m := range r.MemberStates() {
			if need := r.NeedSize(m.Slot); need > info.Size {
				short = max(short, need)
			}
		}
		if short > 0 {
			reply.TooSmall = append(reply.TooSmall, fmt.Sprintf("%s has %s (%d bytes); array %s needs %s (%d bytes)", info.Identity, FormatSize(info.Size), info.Size, r.Name(), FormatSize(short), short))
		} else {
			reply.Fits = append(reply.Fits, r.Name())
		}
	}
	if len(reply.TooSmall) > 0 && (len(reply.Fits) == 0 || len(req.Arrays) > 0) {
		return nil, &Error{What: "too small to be a spare: " + strings.Join(reply.TooSmall, "; ")}
	}
	if info.Bay == "" {
		if err := s.remember(info.Path); err != nil {
			return nil, err
		}
	}
	err = s.change(func(m *memory) {
		m.Spares = slices.DeleteFunc(m.Spares, func(p Spare) bool { return p.Disk == key(info) })
		m.Spares = append(m.Spares, Spare{Disk: key(info), Arrays: req.Arrays, AlthoughBad: req.AlthoughBad})
	})
	if err != nil {
		return nil, err
	}
	s.event(Event{Kind: "spare-assigned", Severity: Info, Disk: info.Identity.String(), Detail: "for " + cmp.Or(strings.Join(req.Arrays, ", "), "all arrays")})
	reply.Disk = s.lookAt(src)
	s.wake()
	return reply, nil
}

// stepIn puts spares in the place of members that failed, the most endangered array first.
func (s *Service) stepIn() {
	if len(s.spares()) == 0 {
		return
	}
	arrays := s.running()
	slices.SortStableFunc(arrays, func(x, y *running) int {
		mx, _ := x.Margin()
		my, _ := y.Margin()
		return mx - my
	})
	for _, r := range arrays {
		if r.Failure() != nil || !r.Geometry().Redundant() {
			continue
		}
		for _, m := range r.MemberStates() {
			if m.Condition == record.Failed || m.Condition == record.Missing {
				s.takeOver(r, m)
			}
		}
	}
}

// takeOver lets the smallest spare that fits take the place of a member.
func (s *Service) takeOver(r *running, m array.MemberState) {
	s.admin.Lock()
	defer s.admin.Unlock()
	need := r.NeedSize(m.Slot)
	var best *DiskInfo
	disks, err := s.Disks()
	if err != nil {
		return
	}
	for i, d := range disks {
		p, ok := s.spareOf(d)
		if !ok || d.State != DiskSpare || !p.serves(r.Name()) || d.Size < need || s.badBecause(d.Identity) != "" && !p.AlthoughBad {
			continue
		}
		if best == nil || d.Size < best.Size {
			best = &disks[i]
		}
	}
	if best == nil {
		s.once("spare-missing", r.Name(), fmt.Sprint(m.Slot, m.Since), Event{Kind: "spare-missing", Severity: Warning, Array: r.Name(), Disk: m.Disk.String(),
			Detail: fmt.Sprintf("no spare of at least %s is there to take its place", FormatSize(need))})
		return
	}
	d, err := s.open(s.sourceOf(best.Identity))
	if err != nil {
		s.opt.Log.Warn("spare cannot be opened", "disk", best.Identity.String(), "reason", err)
		return
	}
	if err := r.StandIn(m.Slot, d); err != nil {
		_ = d.Close()
		s.opt.Log.Warn("spare could not take over", "disk", best.Identity.String(), "array", r.Name(), "reason", err)
		return
	}
	_ = s.change(func(mem *memory) {
		mem.Spares = slices.DeleteFunc(mem.Spares, func(p Spare) bool { return p.Disk == key(*best) })
		mem.Took[r.Name()+"/"+key(*best)] = cmp.Or(m.Disk.Serial, m.Disk.Path)
	})
	s.event(Event{Kind: "spare-used", Severity: Warning, Array: r.Name(), Disk: best.Identity.String(),
		Detail: fmt.Sprintf("it takes the place of %s in slot %d, which is %s", m.Disk, m.Slot, m.Condition)})
}
