package stripe

import (
	"bytes"
	"slices"

	"nidalo/core/layout"
)

// Place is a block of a stripe.
type Place struct{ Role, Col int }

// Agrees says whether the parity that the columns have is that of their data. It is for columns that are sound.
func (c *Columns) Agrees() bool {
	rows := c.parity()
	defer c.s.host.Scratch.Put(rows...)
	return slices.EqualFunc(rows, c.Bufs[c.St.Data:], bytes.Equal)
}

// parity is what the parity of the data is, in buffers for the time of the caller.
func (c *Columns) parity() [][]byte {
	rows := make([][]byte, c.St.Parity)
	for j := range rows {
		rows[j] = c.s.host.Scratch.Get(c.n)
	}
	if len(rows) > 0 {
		Encode(c.St, rows, c.Bufs[:c.St.Data])
	}
	return rows
}

// Contradictions finds the columns whose blocks are all whole by their checksums and yet contradict each other. With two
// parities or three copies the code itself shows which one is wrong: without that one, and only without that one, the others
// agree. Those are guilty. Where nothing shows it the place is unsure, and named by its first parity.
func (c *Columns) Contradictions() (guilty, unsure []Place) {
	k, m := c.St.Data, c.St.Parity
	rows := c.parity()
	defer c.s.host.Scratch.Put(rows...)
	for col := range c.n {
		whole, agrees := true, true
		for role := range c.Roles {
			whole = whole && c.Roles[role] != nil && c.Known[role][col] && c.Wrong[role][col] == sound
		}
		for j := range rows {
			agrees = agrees && (!c.Known[k+j][col] || c.Wrong[k+j][col] != sound || c.Roles[k+j] == nil ||
				bytes.Equal(rows[j][col*layout.Block:][:layout.Block], c.Bufs[k+j][col*layout.Block:][:layout.Block]))
		}
		switch {
		case agrees || !c.allData(col):
		case whole && m > 1:
			if role := c.odd(col); role >= 0 {
				guilty = append(guilty, Place{role, col})
				continue
			}
			fallthrough
		default:
			unsure = append(unsure, Place{k, col})
		}
	}
	return guilty, unsure
}

// allData says whether all data of a column is known from its own members.
func (c *Columns) allData(col int) bool {
	for role := range c.St.Data {
		if !c.Known[role][col] {
			return false
		}
	}
	return true
}

// odd is the one role of a column without which the others agree; -1 when there is none, or more than one.
func (c *Columns) odd(col int) int {
	k, m, found := c.St.Data, c.St.Parity, -1
	strips, own := make([][]byte, len(c.Bufs)), make([]byte, layout.Block)
	rows := make([][]byte, m)
	for j := range rows {
		rows[j] = make([]byte, layout.Block)
	}
	for role := range c.Bufs {
		for r := range strips {
			strips[r] = c.Bufs[r][col*layout.Block:][:layout.Block]
		}
		strips[role] = own
		if Recover(c.St, strips, []int{role}) != nil {
			continue
		}
		Encode(c.St, rows, strips[:k])
		agree := true
		for j := range rows {
			agree = agree && bytes.Equal(rows[j], strips[k+j])
		}
		if agree {
			if found >= 0 {
				return -1
			}
			found = role
		}
	}
	return found
}
