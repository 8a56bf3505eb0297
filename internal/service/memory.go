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
		err = json.Unmarshal(buf, &s.mem)
		for _, m := range []*map[string]string{&s.mem.Paces, &s.mem.Took, &s.mem.Quiet, &s.mem.Names, &s.mem.Bad} {
			if *m == nil { // as an edited file may say
				*m = map[string]string{}
			}
		}
	}
	if err != nil {
		return &control.Error{What: fmt.Sprintf("%s cannot be read: %v", s.memoryPath(), err), Hints: []string{"repair or remove it: arrays are found by what their disks carry; spares and paces must be set again"}}
	}
	return nil
}

// change edits the memory and writes it down, whole or not at all. Only other changes wait for the disk of the home meanwhile.
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
	if err := os.Rename(temporary, s.memoryPath()); err != nil {
		return err
	}
	dir, err := os.Open(s.opt.Home)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close()) // or a power cut brings the old one back
}
