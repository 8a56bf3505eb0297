package stripe

import (
	"nidalo/core/layout"
	"nidalo/core/parity"
)

// What a stripe's parity is of its data. In a guarded set the weight of a data strip goes by its slot, so that the disks of a set come and go without any
// other changing its weight: roles that are not there count as zeros.

// Encode sets the parity rows of a stripe; see parity.Encode.
func Encode(st layout.Stripe, rows, data [][]byte) {
	if st.Fixed {
		data = spread(st, data)
	}
	parity.Encode(rows, data)
}

// Update folds a change of a data role into the parity rows of a stripe; see parity.Update.
func Update(st layout.Stripe, rows [][]byte, role int, delta []byte) {
	parity.Update(rows, st.Weight(role), delta)
}

// Recover restores the strips of some roles; see parity.Recover.
func Recover(st layout.Stripe, strips [][]byte, lost []int) error {
	if !st.Fixed {
		return parity.Recover(strips, st.Data, lost)
	}
	all := spread(st, strips[:st.Data])
	k := len(all)
	gone := make([]int, len(lost))
	for i, role := range lost {
		if gone[i] = k + role - st.Data; role < st.Data {
			gone[i] = st.Weight(role)
		}
	}
	return parity.Recover(append(all, strips[st.Data:]...), k, gone)
}

// spread puts the data strips of a stripe where their weights are, with nil in between.
func spread(st layout.Stripe, data [][]byte) (out [][]byte) {
	for role, b := range data {
		for len(out) <= st.Weight(role) {
			out = append(out, nil)
		}
		out[st.Weight(role)] = b
	}
	return out
}
