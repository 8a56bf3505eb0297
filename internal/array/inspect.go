package array

import (
	"errors"

	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
)

// Finding is what a member carries, as far as it can be read without joining it.
type Finding struct {
	Record  *record.Record // the newer whole copy, or nil
	Copies  [3]string      // how the copies of the record are: "whole", or why not
	Head    *record.JournalHead
	Entries int    // live entries in the journal, from its head on
	First   uint64 // the lowest batch of them
	Last    uint64 // and the highest
	Pending int64  // bytes of payload in them
	Written int64  // bytes in checksum pages that were ever written, an upper bound of the data
	Damaged []string
}

// Inspect reads what a disk carries, without writing and without judging it.
func Inspect(d disk.Disk) (Finding, error) {
	var f Finding
	buf := make([]byte, record.Size)
	var first error
	for i, off := range disk.RecordCopies(d.Size()) {
		f.Copies[i] = "whole"
		if err := d.ReadAt(buf, off); err != nil {
			f.Copies[i] = "cannot be read: " + err.Error()
			first = errors.Join(first, err)
			continue
		}
		r, err := record.Decode(buf)
		switch {
		case errors.Is(err, record.ErrAbsent):
			f.Copies[i] = "not there"
		case err != nil:
			f.Copies[i] = "damaged: " + err.Error()
		case f.Record == nil || r.Epoch > f.Record.Epoch || r.Epoch == f.Record.Epoch && r.Generation > f.Record.Generation:
			f.Record = r
		}
	}
	if f.Record == nil {
		return f, first
	}
	m := member.New(nil, member.Known{Slot: f.Record.Slot, Disk: d, Identity: f.Record.Member, Place: f.Record.Place, Condition: record.Active})
	f.inspectJournal(m)
	f.inspectMap(m)
	return f, nil
}

func (f *Finding) inspectJournal(m *member.Member) {
	s := journal.NewScan(m)
	s.ReadHeads(func(err error) { f.Damaged = append(f.Damaged, err.Error()) })
	if !s.HeadOK {
		return
	}
	f.Head = &s.Head
	s.Walk()
	for n, e := range s.Entries {
		if f.Entries == 0 || n < f.First {
			f.First = n
		}
		f.Last = max(f.Last, n)
		f.Entries++
		f.Pending += int64(e.Payload()) * Block
	}
}

func (f *Finding) inspectMap(m *member.Member) {
	page := make([]byte, Block)
	for number := range m.Place().Pages(record.MapPage) {
		err := m.Disk.ReadAt(page, m.Place().PageAt(record.MapPage, number))
		if err == nil {
			_, _, err = record.CheckPage(page, record.MapPage, m.Tag, number)
		}
		if err != nil {
			f.Damaged = append(f.Damaged, "written map: "+err.Error())
			continue
		}
		for i := range record.BitsPerPage {
			if record.PageBit(page, i) {
				f.Written += record.SumsPerPage * Block
			}
		}
	}
	f.Written = min(f.Written, m.Place().Data())
}
