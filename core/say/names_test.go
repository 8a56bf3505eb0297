package say_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/say"
)

func TestRangesOfBays(t *testing.T) {
	for _, c := range []struct {
		names []string
		text  string
		typed string
	}{
		{[]string{"A1", "A2", "A3", "B1"}, "A1–A3, B1", "A1-A3 B1"},
		{[]string{"A1", "A2"}, "A1, A2", "A1 A2"},
		{[]string{"A9", "A10", "A11", "TMK-0193", "/dev/sdb"}, "A9–A11, TMK-0193, /dev/sdb", "A9-A11 TMK-0193 /dev/sdb"},
		{[]string{"A3", "A1", "A2", "1", "2", "3"}, "A3, A1, A2, 1, 2, 3", "A3 A1 A2 1 2 3"},
		{nil, "", ""},
	} {
		require.Equal(t, c.text, say.Ranges(c.names))
		require.Equal(t, c.typed, say.Arguments(c.names))
	}
	require.Equal(t, []string{"A9", "A10", "A11"}, say.Expand("A9-A11"))
	require.Equal(t, []string{"B2"}, say.Expand("B2–B2"))
	for _, none := range []string{"", "A1", "A3-A1", "A1-B3", "TMK-0193", "A1-A999", "a-b", "1-3", "A01-A03"} {
		require.Nil(t, say.Expand(none), none)
	}
}
