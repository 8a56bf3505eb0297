package wholefile_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/internal/wholefile"
)

func TestAFileIsReplacedOrStays(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	folder := t.TempDir()
	require.NoError(t, exec.Command("mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", folder).Run())
	defer func() { require.NoError(t, syscall.Unmount(folder, 0)) }()
	path := filepath.Join(folder, "notes")
	holds := func(want []byte) {
		got, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, want, got)
		left, err := os.ReadDir(folder)
		require.NoError(t, err)
		require.Len(t, left, 1, "nothing half written stays")
	}
	first, second := bytes.Repeat([]byte("first "), 1000), bytes.Repeat([]byte("second"), 1000)
	require.NoError(t, wholefile.Write(path, first))
	holds(first)
	require.NoError(t, wholefile.Write(path, second))
	holds(second)
	require.ErrorIs(t, wholefile.Write(path, make([]byte, 60<<10)), syscall.ENOSPC, "there is room for a part of it")
	holds(second)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode())
	require.Error(t, wholefile.Write(filepath.Join(folder, "missing", "notes"), first))
}
