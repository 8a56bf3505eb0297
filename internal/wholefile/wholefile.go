// Package wholefile replaces small files so that a crash, a power cut or a full file system leaves the old contents or the new ones, never less.
package wholefile

import (
	"errors"
	"os"
	"path/filepath"
)

// Write replaces a file that only its owner can read. With an error the old one is there as it was, or, when only the folder could not be synced, the new one.
func Write(path string, buf []byte) error {
	temporary := path + ".new"
	f, err := os.OpenFile(temporary, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(buf)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(temporary, path)
	}
	if err != nil {
		_ = os.Remove(temporary)
		return err
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close()) // or a power cut brings the old one back
}
