package state

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatMembersAreLostWith(t *testing.T) {
	file := func(path, on string) Identity { return Identity{Path: path, On: on} }
	disk := func(serial string) Identity { return Identity{Path: "/dev/x", Model: "TK", Serial: serial} }
	away, known := Identity{}, Identity{Path: "/srv/4"} // that is not there, and of which only the record tells
	for name, c := range map[string]struct {
		members []Identity
		want    []string
	}{
		"partitions of a disk":            {[]Identity{disk("1-part1"), disk("1-part2"), disk("2")}, []string{"TK 1", "TK 1", "TK 2"}},
		"files of two file systems":       {[]Identity{file("/a/1", "a"), file("/a/2", "a"), file("/b/1", "b")}, []string{"a", "a", "b"}},
		"a trial":                         {[]Identity{file("/a/1", "a"), file("/a/2", "a"), file("/a/3", "a")}, []string{"", "", ""}},
		"a trial without its first":       {[]Identity{away, file("/a/2", "a"), file("/a/3", "a")}, []string{"", "", ""}},
		"a trial with one that is away":   {[]Identity{file("/a/1", "a"), known, file("/a/3", "a")}, []string{"", "", ""}},
		"two systems, and one is away":    {[]Identity{file("/a/1", "a"), known, file("/b/3", "b")}, []string{"a", "", "b"}},
		"files of one, and a disk":        {[]Identity{file("/a/1", "a"), file("/a/2", "a"), disk("2")}, []string{"a", "a", "TK 2"}},
		"nothing is known of any of them": {[]Identity{known, away}, []string{"", ""}},
	} {
		require.Equal(t, c.want, Spindles(c.members), name)
	}
}

func TestATextTellsOfOneDisk(t *testing.T) {
	for _, id := range []Identity{{Bay: "A1", Model: "TK-4000", Serial: "TMK-0193"}, {Path: "/dev/sdb", Serial: "TMK-0193"}, {Path: "/srv/disk 1"}} {
		require.True(t, Tells(id.String(), id.Name()), id.String())
	}
	require.False(t, Tells("A1 (TK-4000 TMK-0193)", "0193"), "the end of a serial")
	require.False(t, Tells("/srv/disk10", "/srv/disk1"))
	require.False(t, Tells("A1 (TK-4000 TMK-0193)", ""))
}
