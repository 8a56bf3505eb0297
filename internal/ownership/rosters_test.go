package ownership

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatWasLeftBehindIsNotStartedFrom(t *testing.T) {
	five := Roster{Epoch: 5, ID: "e5", Members: []string{"a", "b", "c"}}
	six := Roster{Epoch: 6, ID: "e6", Members: []string{"a", "b"}}        // c was lost
	seven := Roster{Epoch: 7, ID: "e7", Members: []string{"a", "b", "c"}} // c joins again
	for _, x := range []struct {
		all    Rosters
		found  map[string]uint64
		newest uint64
		id     string
		may    bool
		why    string
	}{
		{nil, map[string]uint64{"a": 5}, 5, "e5", true, "nobody owned it before"},
		{Rosters{five}, map[string]uint64{"a": 5, "b": 5}, 5, "e5", true, "as agreed"},
		{Rosters{five}, map[string]uint64{"a": 6, "b": 5}, 6, "x", true, "later than all that was agreed on"},
		{Rosters{five}, map[string]uint64{"a": 5}, 5, "x", false, "the same epoch, and another roster"},
		{Rosters{five, six}, map[string]uint64{"c": 5}, 5, "e5", false, "c was left behind"},
		{Rosters{five, six}, map[string]uint64{"c": 5, "a": 6}, 6, "e6", true, "a knows"},
		{Rosters{five, six}, map[string]uint64{"c": 5, "a": 5}, 5, "e5", true, "a was to know and does not: nothing counted by it"},
		{Rosters{six, seven}, map[string]uint64{"c": 5}, 5, "e5", false, "c refutes that it joined again, not that it was left behind"},
		{Rosters{six, seven}, map[string]uint64{"c": 7}, 7, "e7", true, "c joined"},
		{Rosters{six, seven}, map[string]uint64{"c": 5, "b": 6}, 6, "e6", true, "b was before, and c never joined"},
		{Rosters{seven}, map[string]uint64{"c": 5}, 5, "e5", true, "what is on all of its members guards all before; c says that this one is not"},
	} {
		if err := x.all.Allows(x.found, x.newest, x.id); x.may {
			require.NoError(t, err, x.why)
		} else {
			require.Error(t, err, x.why)
		}
	}
}
