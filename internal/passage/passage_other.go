//go:build !linux

package passage

import "errors"

// Folder is not used here.
const Folder = ""

// Memory is not used here.
type Memory struct{}

// Open says so.
func Open(folder, device, session, ring string) (*Memory, error) {
	return nil, errors.New("only Linux has devices")
}

// Into has nothing here.
func (m *Memory) Into(at, n int64) []byte { return nil }

// From has nothing here.
func (m *Memory) From(p []byte, at int64) error { return errors.ErrUnsupported }

// Close has nothing to do here.
func (m *Memory) Close() {}
