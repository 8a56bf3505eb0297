package array

import (
	"fmt"

	"nidalo/core/record"
	"nidalo/internal/array/member"
)

// missed sees to a change that could not be entered since a table of a member cannot be read. One that the array cannot do without,
// because it only hangs, would be taken for what it held before once the journals are emptied: so nothing more is written, and the next start enters it from them.
func (a *Array) missed(m *member.Member, err error) {
	if a.slots.IsCopy(m) {
		a.roster.Fail(m, record.Failed, err)
		return
	}
	a.fail(fmt.Errorf("the checksum table of %w; start the array again when the disk answers", err))
}
