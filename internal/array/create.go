package array

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/google/uuid"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/disk"
)

// Plan is an array that could be created.
type Plan struct {
	Name   string
	Level  layout.Level
	Strip  int64
	Groups int
	Disks  []disk.Disk // in slot order
}

// CheckName says what is wrong with an array name: it is also the name of the export, and part of commands.
func CheckName(name string) error {
	if name == "" || len(name) > 64 {
		return errors.New("the name must have 1 to 64 characters")
	}
	for _, r := range name {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_.", r)) {
			return fmt.Errorf("the name %q has a %q: letters, digits, dots, dashes and underscores are allowed", name, r)
		}
	}
	if strings.HasPrefix(name, "-") || strings.HasPrefix(name, ".") {
		return fmt.Errorf("the name %q must start with a letter or a digit", name)
	}
	return nil
}

// Layout works out the geometry of the plan and each member's place without touching a disk.
func (p Plan) Layout() (*layout.Geometry, []record.Place, error) {
	if err := CheckName(p.Name); err != nil {
		return nil, nil, err
	}
	sizes := make([]int64, len(p.Disks))
	for i, d := range p.Disks {
		place, err := record.PlaceFor(d.Size(), 0)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", d.Identity(), err)
		}
		if most := place.MaxStripFor(); p.Strip > most {
			return nil, nil, fmt.Errorf("%s: a disk of %d bytes takes strips of at most %dKiB", d.Identity(), d.Size(), most>>10)
		}
		sizes[i] = place.DataSize
	}
	geo, err := layout.New(p.Level, p.Strip, p.Groups, sizes)
	if err != nil {
		return nil, nil, err
	}
	places := make([]record.Place, len(p.Disks))
	for i, d := range p.Disks {
		if places[i], err = record.PlaceFor(d.Size(), geo.Rows[geo.GroupOf(i)]*p.Strip); err != nil {
			return nil, nil, fmt.Errorf("%s: %w", d.Identity(), err)
		}
	}
	return geo, places, nil
}

// Create writes a new array onto the plan's disks, whatever they hold, and opens it. The disks belong to the array then.
func Create(p Plan, cfg Config) (*Array, error) {
	geo, places, err := p.Layout()
	if err != nil {
		return nil, err
	}
	rec := &record.Record{Array: uuid.New(), Name: p.Name, Level: p.Level, Strip: p.Strip, Epoch: 1, EpochID: uuid.New()}
	if slices.Contains([]layout.Level{layout.Mirrors, layout.Parities1, layout.Parities2}, p.Level) {
		rec.Groups = geo.Groups
	}
	a := newArray(cfg, geo, rec)
	rec.Created = a.now()
	rec.Roster = make([]record.Entry, len(p.Disks))
	a.roster.ids = make([]uuid.UUID, len(p.Disks))
	for i, d := range p.Disks {
		a.roster.ids[i] = uuid.New()
		rec.Roster[i] = record.Entry{ID: a.roster.ids[i], Condition: record.Active, Size: d.Size(),
			DataSize: places[i].DataSize, Since: rec.Created}
	}
	for i, d := range p.Disks {
		m := a.newMember(i, d, rec)
		m.adopt(places[i], a.roster.ids[i])
		a.members[i].Store(m)
	}
	// Records last: a disk whose preparation was cut short is not a member of anything.
	if err := a.parallel(len(p.Disks), func(i int) error { return a.prepare(a.members[i].Load(), 1) }); err != nil {
		return nil, err
	}
	if err := a.roster.update(a, func(*record.Record) {}); err != nil {
		return nil, err
	}
	a.start()
	return a, nil
}

// adopt sets what follows from a member's place and identity.
func (m *member) adopt(place record.Place, id uuid.UUID) {
	m.identity = id
	m.place, m.tag = place, (&record.Record{Member: id}).Tag()
	m.ring = ringOf(place)
}

// prepare makes a disk an empty member but for its record: nothing written, nothing in the journal. batch is the number
// of the next batch.
func (a *Array) prepare(m *member, batch uint64) error {
	const chunk = 256
	for first := int64(0); first < m.place.MapPages; first += chunk {
		n := min(chunk, m.place.MapPages-first)
		buf := make([]byte, n*Block)
		for i := range n {
			record.SealPage(buf[i*Block:(i+1)*Block], record.MapPage, m.tag, first+i)
		}
		if err := m.disk.WriteAt(buf, m.place.MapStart+first*Block); err != nil {
			return err
		}
	}
	for range record.JournalHeads {
		m.ring.sequence++
		h := record.JournalHead{Sequence: m.ring.sequence, Batch: batch}
		if err := m.disk.WriteAt(h.Encode(m.tag), m.place.JournalStart+int64(h.Sequence%record.JournalHeads)*Block); err != nil {
			return err
		}
	}
	return m.disk.Sync()
}

func newArray(cfg Config, geo *layout.Geometry, rec *record.Record) *Array {
	if cfg.Cache == 0 {
		cfg.Cache = DefaultCache
	}
	if cfg.Tables == 0 {
		cfg.Tables = DefaultTables
	}
	cfg.Limits = cfg.Limits.orDefault()
	a := &Array{cfg: cfg, geo: geo, stop: make(chan struct{}), suspects: make(chan *member, 64)}
	a.name.Store(&rec.Name)
	a.roster.rec = rec
	a.roster.shown.Store(rec.Clone())
	a.roster.epoch.Store(rec.Epoch)
	a.members = make([]atomic.Pointer[member], geo.Members)
	a.onto = make([]atomic.Pointer[member], geo.Members)
	a.cache = newCache(a, cfg.Cache)
	a.tables = newTables(a, cfg.Tables)
	a.journal = newJournal(a)
	return a
}

// Candidate is a disk that carries a member record.
type Candidate struct {
	Disk   disk.Disk
	Record *record.Record
}

// Set is the disks found of one array, judged.
type Set struct {
	Newest  *record.Record
	Current []Candidate // by slot; Disk is nil where none is current
	Onto    []Candidate // by slot; Disk is nil where no copy of the member is under way
	Stale   []Candidate // carry an older state, or were taken out of the roster
	Doubt   error       // why the array must not be started without a decision
}

// ErrDoubt is wrapped by the reasons not to start an array.
var ErrDoubt = errors.New("it is not certain which state is the right one")

// Judge sorts the candidates, which all name the same array: the highest epoch has the word, and a member is current
// when that roster names it and its own record is at most the one epoch behind that a crash in a roster change leaves.
func Judge(candidates []Candidate) Set {
	var s Set
	for _, c := range candidates {
		if n := s.Newest; n == nil || c.Record.Epoch > n.Epoch || c.Record.Epoch == n.Epoch && c.Record.Generation > n.Generation {
			s.Newest = c.Record
		}
	}
	s.Current = make([]Candidate, len(s.Newest.Roster))
	s.Onto = make([]Candidate, len(s.Newest.Roster))
	for _, c := range candidates {
		r := c.Record
		if r.Epoch == s.Newest.Epoch && r.EpochID != s.Newest.EpochID {
			s.Doubt = fmt.Errorf("%w: %s and other members each went on without the other (epoch %d)", ErrDoubt, c.Disk.Identity(), r.Epoch)
		}
		if r.Slot >= len(s.Newest.Roster) {
			s.Stale = append(s.Stale, c)
			continue
		}
		e := s.Newest.Roster[r.Slot]
		in := e.Condition == record.Active || e.Condition == record.Failing || e.Condition == record.Rebuilding
		switch {
		case e.Onto != uuid.Nil && e.Onto == r.Member:
			s.Onto[r.Slot] = c
		case !in || e.ID != r.Member || r.Epoch+1 < s.Newest.Epoch:
			s.Stale = append(s.Stale, c)
		case s.Current[r.Slot].Disk != nil:
			s.Doubt = fmt.Errorf("%w: %s and %s both carry member %d", ErrDoubt, s.Current[r.Slot].Disk.Identity(), c.Disk.Identity(), r.Slot)
		default:
			s.Current[r.Slot] = c
		}
	}
	return s
}

// Holds says whether an array opened from the set keeps the disk.
func (s Set) Holds(d disk.Disk) bool {
	has := func(c Candidate) bool { return c.Disk == d }
	return slices.ContainsFunc(s.Current, has) || slices.ContainsFunc(s.Onto, func(c Candidate) bool {
		return has(c) && s.Current[c.Record.Slot].Disk != nil
	})
}

// Margin is how many further losses the set survives for certain; negative when it cannot be started.
func (s Set) Margin() int {
	geo, err := s.Newest.Geometry()
	if err != nil {
		return -1
	}
	certain, _ := geo.Margin(func(slot int) bool {
		return s.Current[slot].Disk == nil || s.Newest.Roster[slot].Condition == record.Rebuilding
	})
	return certain
}

// Open starts an array from its current members: whoever is missing is marked so on the others, the journals are
// replayed, and interrupted rebuilds go on. The disks of the set's current members belong to the array then.
func Open(s Set, cfg Config) (*Array, error) {
	if s.Doubt != nil {
		return nil, s.Doubt
	}
	if s.Margin() < 0 {
		return nil, fmt.Errorf("%w: %s", ErrFailed, s.Shortage())
	}
	rec := s.Newest.Clone()
	geo, err := rec.Geometry()
	if err != nil {
		return nil, err
	}
	a := newArray(cfg, geo, rec)
	a.roster.ids = make([]uuid.UUID, len(rec.Roster))
	var gone []int
	for slot := range rec.Roster {
		e := &rec.Roster[slot]
		c := s.Current[slot]
		if c.Disk == nil && e.Condition != record.Failed && e.Condition != record.Missing {
			gone = append(gone, slot)
		}
		m := a.newMember(slot, c.Disk, rec)
		if c.Disk == nil && m.condition() != record.Failed {
			m.state.Store(int32(record.Missing))
		}
		a.roster.ids[slot] = e.ID
		if c.Disk != nil {
			m.adopt(c.Record.Place, c.Record.Member)
		}
		a.members[slot].Store(m)
		if e.Onto != uuid.Nil {
			if copied := s.Onto[slot]; copied.Disk != nil && c.Disk != nil {
				a.adoptCopy(slot, copied)
			} else {
				e.Onto, e.Cursor = uuid.Nil, 0 // it is not there any more, or there is nothing to copy from
			}
		}
	}
	// First everybody gets the epoch there is, so that no member is ever more than one behind whatever crash comes next.
	if err = a.roster.update(a, func(r *record.Record) { r.Clean = false }); err == nil && len(gone) > 0 {
		err = a.roster.raise(a, func(r *record.Record) {
			for _, slot := range gone {
				leaves(r, slot, record.Missing, a.now())
			}
		})
	}
	if err == nil {
		err = a.replay()
	}
	if err != nil {
		a.freeze(err)
		return nil, err
	}
	for _, slot := range gone {
		a.event("member-missing", rec.Roster[slot].Bay, "slot %d was not found when the array was started", slot)
	}
	a.start()
	a.resumeTasks()
	return a, nil
}

// Shortage says in words which members a set lacks.
func (s Set) Shortage() string {
	var names []string
	for slot, e := range s.Newest.Roster {
		if s.Current[slot].Disk == nil {
			names = append(names, fmt.Sprintf("slot %d, %s", slot, disk.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}))
		}
	}
	if len(names) == 0 {
		return "a member is not rebuilt yet, and another is lost"
	}
	return "more members are missing than the level survives: " + strings.Join(names, "; ")
}
