package content

import (
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFindsTheEndOfFileSystems(t *testing.T) {
	if _, err := exec.LookPath("mke2fs"); err != nil {
		t.Skip("mke2fs is not here")
	}
	path := filepath.Join(t.TempDir(), "volume")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, 64<<20))
	for _, args := range [][]string{{"-t", "ext4", "-b", "1024", path, "30000"}, {"-t", "ext4", "-b", "4096", "-O", "64bit", path, "9000"}, {"-t", "ext2", path, "20M"}} {
		out, err := exec.Command("mke2fs", append([]string{"-q", "-F"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		fs, ok := Find(raw[:Head])
		require.True(t, ok)
		require.Equal(t, map[string]int64{"30000": 30000 << 10, "9000": 9000 << 12, "20M": 20 << 20}[args[len(args)-1]], fs.End)
	}
}

func TestFindsTheEndOfXFS(t *testing.T) {
	head := make([]byte, Head)
	copy(head, "XFSB")
	binary.BigEndian.PutUint32(head[4:], 4096)
	binary.BigEndian.PutUint64(head[8:], 76800)
	head[124] = 12
	fs, ok := Find(head)
	require.True(t, ok)
	require.Equal(t, FileSystem{Kind: "XFS", End: 300 << 20, Grows: "xfs_growfs", Mounted: true}, fs)
	_, ok = Find(make([]byte, Head))
	require.False(t, ok)
}

func FuzzFind(f *testing.F) {
	head := make([]byte, Head)
	copy(head, "XFSB")
	f.Add(head)
	f.Fuzz(func(t *testing.T, head []byte) {
		if fs, ok := Find(head); ok {
			require.GreaterOrEqual(t, fs.End, int64(0))
		}
	})
}
