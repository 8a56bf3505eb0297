package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"nidalo/core/exchange"
	"nidalo/internal/control"
	"nidalo/internal/service/attach"
	"nidalo/internal/service/lend"
	"nidalo/internal/wholefile"
)

// memory is what the service remembers in its home from one start to the next, besides what members carry.
type memory struct {
	Arrays []string          `json:"arrays"` // identities of arrays that belong to this home
	Out    []string          `json:"out"`    // of those, the ones taken out of service with stop
	Spares []Spare           `json:"spares"`
	Paces  map[string]string `json:"paces"` // schedules by array; "" for all
	// Took notes where a spare stepped in: by array and serial of the disk that took over, the serial of the one that failed.
	Took     map[string]string     `json:"took"`
	Vets     []control.Vetting     `json:"vets,omitempty"`
	Surfaces []control.Surface     `json:"surface_tests,omitempty"`
	Swaps    []diskSwap            `json:"disk_replacements,omitempty"`
	Names    map[string]string     `json:"names"`              // of the arrays that belong to this home, by identity
	Bad      map[string]string     `json:"bad"`                // disks that failed, by serial or path, and why
	Chosen   map[string]string     `json:"chosen,omitempty"`   // of copies of a member, by its identity, the disk that is used
	Attached map[string]attach.How `json:"attached,omitempty"` // arrays that are devices of this host, by identity
	// Exchanges of disks, under way and over.
	Exchanges []exchange.Exchange    `json:"exchanges,omitempty"`
	Rounds    map[string]roundAt     `json:"rounds,omitempty"`     // regular work, by identity of the array or name of the disk
	Leaving   map[string][]leaving   `json:"leaving,omitempty"`    // members that are to leave after others, by identity of the array
	Waiting   map[string]laterChange `json:"waiting,omitempty"`    // changes of layout that begin when the one before is done, by identity of the array
	Handings  map[string]handing     `json:"handings,omitempty"`   // of parity, in guarded sets, by identity
	Emptying  map[string]emptying    `json:"emptying,omitempty"`   // volumes of guarded sets whose disks are to be taken out, by identity of the set
	Grew      []string               `json:"grew,omitempty"`       // arrays, by identity, that grew, and whose file systems may not have yet
	KeepFreed []string               `json:"keep_freed,omitempty"` // disks that are to be hot spares once they are freed, by serial or path
	Lent      []lend.Loan            `json:"lent,omitempty"`       // to other hosts
	Unproven  []string               `json:"unproven,omitempty"`   // guarded sets, by identity, that had lost more disks than they have parity, and were not checked since
	Quiet     map[string]string      `json:"quiet"`                // acknowledged conditions and the state they had
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
		err = s.mem.parse(buf)
	}
	if err != nil {
		return &control.Error{What: fmt.Sprintf("%s cannot be read: %v", s.memoryPath(), err), Hints: []string{"repair or remove it: arrays are found by what their disks carry; spares and paces must be set again"}}
	}
	return nil
}

func (m *memory) parse(buf []byte) error {
	err := json.Unmarshal(buf, m)
	for _, of := range []*map[string]string{&m.Paces, &m.Took, &m.Quiet, &m.Names, &m.Bad} {
		if *of == nil { // as an edited file may say
			*of = map[string]string{}
		}
	}
	return err
}

// change edits the memory once that is written down: what cannot be written is not in force either. Only other changes wait for the disk of
// the home meanwhile.
func (s *Service) change(edit func(*memory)) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	var fresh memory
	s.mu.Lock()
	buf, err := json.Marshal(s.mem)
	if err == nil {
		err = fresh.parse(buf)
	}
	if err == nil {
		edit(&fresh)
	}
	s.mu.Unlock()
	if err == nil {
		err = s.write(&fresh)
	}
	if err != nil {
		return &control.Error{What: fmt.Sprintf("it cannot be noted in %s: %v", s.opt.Home, err), Hints: []string{"give the command again when that is mended"}}
	}
	s.mu.Lock()
	s.mem = fresh
	s.mu.Unlock()
	return nil
}

// note has the memory tell of what is so already, whether it can be written down or not. What cannot is written as soon as it can be.
func (s *Service) note(edit func(*memory)) {
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	edit(&s.mem)
	s.mu.Unlock()
	_ = s.write(nil)
}

// writeAgain tries to write down what could not be.
func (s *Service) writeAgain() {
	s.saving.Lock()
	defer s.saving.Unlock()
	if s.unnoted.Load() != nil {
		_ = s.write(nil)
	}
}

// write writes the memory, whole or not at all, nil: as it is now, and notes whether it could. s.saving is held.
func (s *Service) write(m *memory) error {
	s.mu.Lock()
	if m == nil {
		m = &s.mem
	}
	buf, err := json.MarshalIndent(m, "", "  ")
	s.mu.Unlock()
	if err == nil {
		err = wholefile.Write(s.memoryPath(), append(buf, '\n'))
	}
	if err == nil {
		s.unnoted.Store(nil)
	} else if s.unnoted.CompareAndSwap(nil, &trouble{err, s.opt.Now()}) {
		s.opt.Log.Warn("the notes of the service cannot be written", "home", s.opt.Home, "reason", err)
	}
	return err
}
