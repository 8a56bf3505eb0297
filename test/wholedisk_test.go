package test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// A disk is replaced without naming the array, by the bay that it was in or by its serial, and retired in the same way.
func TestAWholeDiskIsReplacedByItsBayOrSerial(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "7", "-size", "64MiB")
	b.nidalo("create", "-yes", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	b.start()
	image, raw := b.home+"/image", noise(20<<20)
	require.NoError(t, os.WriteFile(image, raw, 0o600))
	b.tool("nbdcopy", "--flush", image, b.uri("tides"))
	serial := b.status().Arrays[0].Members[1].Serial

	b.refused(1, []string{"lowers the margin", "retire -whole A1 A4"}, "replace", "A1", "A4")
	b.refused(1, []string{"no array in service has a member"}, "replace", "A5", "A4")
	b.nidalo("lab", "pull", "A1")
	b.eventually("it is noticed", func() bool { return b.status().Arrays[0].Members[0].Condition == "missing" })
	require.Contains(t, b.nidalo("replace", "-wait", "A1", "A4"), "Its member is whole again")
	b.nidalo("lab", "pull", "A2")
	b.eventually("it is noticed", func() bool { return b.status().Arrays[0].Members[1].Condition == "missing" })
	require.Contains(t, b.nidalo("replace", "-wait", serial, "A5"), "Its member is whole again")
	require.Contains(t, b.nidalo("retire", "-whole", "-wait", "A3", "A6"), "Its member is whole again")
	require.Equal(t, "healthy", b.condition())

	b.tool("nbdcopy", b.uri("tides"), image+".back")
	back, err := os.ReadFile(image + ".back")
	require.NoError(t, err)
	require.Equal(t, raw, back[:len(raw)])
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
}
