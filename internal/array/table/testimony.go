package table

import (
	"slices"

	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/probe"
)

// older says whether a page is older than its witness. The power may have gone while a page that had been set back was written:
// then its newest sector is newer than the witness, and the others are what was set back.
func older(sum uint32, newest, oldest uint64, w record.Witness) bool {
	if probe.TornCountsAsNew.On() {
		oldest = newest
	}
	return oldest < w.Checkpoint || newest == w.Checkpoint && sum != w.Sum
}

// holder is the slot that keeps the witnesses of a member's pages; -1 when none does.
func (t *Tables) holder(m *member.Member) int { return t.host.Roster.Holder(m.Slot) }

// witnessAt is where the witness of a page is: on which member, in which of its pages, at which place. It is nil when there is
// none, or when it is away and proves nothing.
func (t *Tables) witnessAt(m *member.Member, kind record.PageKind, number int64) (h *member.Member, page int64, at int) {
	if !t.host.Slots.Has(m) {
		return nil, 0, 0 // a copy, which has none yet
	}
	return t.seenAt(m, kind, number)
}

// seenAt is witnessAt for a disk whether or not it is the member of its slot.
func (t *Tables) seenAt(m *member.Member, kind record.PageKind, number int64) (h *member.Member, page int64, at int) {
	slot := t.holder(m)
	if slot < 0 {
		return nil, 0, 0
	}
	h = t.host.Slots.At(slot)
	if h == nil || !h.Live() {
		return nil, 0, 0
	}
	page, at, ok := m.Place().WitnessOf(h.Place(), kind, number)
	if !ok {
		return nil, 0, 0
	}
	return h, page, at
}

// witness is what another member has seen of a page that is read as something; zero when it proves nothing. That a witness which is there does not
// answer is an error: it might know better. One whose disk sleeps is asked where it must be, see later.
func (t *Tables) witness(p *page, is record.Witness) (record.Witness, error) {
	h, page, at := t.witnessAt(p.m, p.key.kind, p.key.number)
	if h != nil && h.Asleep() {
		if w, ok := t.told(p.key, is); ok {
			return w, nil
		}
	}
	return t.entry(h, page, at, p.m.Tag)
}

// seenOf is what is known of a page of a disk, whether or not it is the member of its slot.
func (t *Tables) seenOf(m *member.Member, kind record.PageKind, number int64) (record.Witness, error) {
	h, page, at := t.seenAt(m, kind, number)
	return t.entry(h, page, at, m.Tag)
}

func (t *Tables) entry(h *member.Member, page int64, at int, tag uint64) (record.Witness, error) {
	if h == nil {
		return record.Witness{}, nil
	}
	on, err := t.get(h, record.WitnessPage, page)
	if err != nil {
		if !h.Live() {
			err = nil
		}
		return record.Witness{}, err
	}
	defer t.put(on)
	return record.PageWitness(on.buf, tag, at), nil
}

// testify has a page's witness say what the page is on its member. It counts when the next checkpoint has written it.
func (t *Tables) testify(p *page) {
	h, page, at := t.witnessAt(p.m, p.key.kind, p.key.number)
	if h == nil {
		return
	}
	on, err := t.get(h, record.WitnessPage, page)
	if err != nil {
		return
	}
	defer t.put(on)
	if now := (record.Witness{Checkpoint: p.number, Sum: p.sum}); now.Checkpoint > record.PageWitness(on.buf, p.m.Tag, at).Checkpoint {
		t.setWitness(on, p.m, at, now)
		if also := t.copyOf(on); also != nil {
			t.setWitness(also, p.m, at, now)
			t.put(also)
		}
	}
}

func (t *Tables) setWitness(on *page, of *member.Member, at int, w record.Witness) {
	record.SetPageWitness(on.buf, of.Tag, at, w)
	t.setDirty(on)
}

// copyOf is the same witness page on the disk that the holder of one is being copied onto; nil when there is none. put must follow.
// What a copy is not told it does not know when it takes the place of its original, however shortly before.
func (t *Tables) copyOf(on *page) *page {
	c := t.host.Slots.Onto(on.m.Slot)
	if c == nil || !c.Live() || on.m == c || probe.CopyNotTold.On() {
		return nil
	}
	there, ok := on.m.Place().SameWitness(c.Place(), on.key.number)
	if !ok {
		return nil
	}
	also, err := t.get(c, record.WitnessPage, there)
	if err != nil {
		return nil // it is on its way out
	}
	return also
}

// SeeAgain has the witness of a page say what the page is on its member, after the disk that keeps it, or the member itself, is
// another. The next checkpoint makes it count.
func (t *Tables) SeeAgain(m *member.Member, kind record.PageKind, number int64) error {
	p, err := t.get(m, kind, number)
	if err != nil {
		if !m.Live() {
			err = nil // the others tell of that
		}
		return err
	}
	if p.number != 0 {
		t.testify(p)
	}
	t.put(p)
	return nil
}

// Hand writes onto a disk that is to keep the witnesses of a member what another, which had them so far, knows, under a number of a checkpoint.
func (t *Tables) Hand(of, from, onto *member.Member, checkpoint uint64) error {
	for number, there := range from.Place().SameWitnesses(onto.Place(), of.Place()) {
		on, err := t.get(from, record.WitnessPage, number)
		if err != nil {
			return err
		}
		buf := slices.Clone(on.buf)
		t.put(on)
		if !slices.ContainsFunc(buf, func(b byte) bool { return b != 0 }) {
			continue
		}
		record.SealPage(buf, record.WitnessPage, onto.Tag, there, checkpoint)
		if err := onto.Disk.WriteAt(buf, onto.Place().PageAt(record.WitnessPage, there)); err != nil {
			return err
		}
	}
	return nil
}

// CopyWitnesses makes a witness page of a copy what it is on the original, and holds the original meanwhile, so that nothing is entered
// there in between that the copy is not told.
func (t *Tables) CopyWitnesses(old *member.Member, number int64, m *member.Member, there int64) error {
	from, err := t.get(old, record.WitnessPage, number)
	if err != nil {
		return err
	}
	defer t.put(from)
	if !slices.ContainsFunc(from.buf, func(b byte) bool { return b != 0 }) {
		return nil
	}
	to, err := t.get(m, record.WitnessPage, there)
	if err != nil {
		return err
	}
	defer t.put(to)
	copy(to.buf, from.buf)
	t.setDirty(to)
	return nil
}
