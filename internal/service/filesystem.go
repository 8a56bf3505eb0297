package service

import (
	"slices"
	"strings"

	"nidalo/core/content"
	"nidalo/internal/control"
	"nidalo/internal/keeper"
)

// fileSystemOn is the file system that takes up an array, if it is one that is known.
func fileSystemOn(r *running) (fs content.FileSystem, ok bool) {
	head := make([]byte, content.Head)
	if r.Failure() != nil || r.Layout().Volumes() != nil || r.ReadAt(head, 0) != nil {
		return fs, false
	}
	return content.Find(head)
}

// smallFileSystem is the file system on an array that grew, when that has not; nil: there is none.
func (s *Service) smallFileSystem(r *running) *control.FileSystemStatus {
	s.mu.Lock()
	grew := slices.Contains(s.mem.Grew, r.ID().String())
	s.mu.Unlock()
	if !grew || r.Record().Turn != nil {
		return nil
	}
	fs, ok := fileSystemOn(r)
	if !ok || fs.End > r.Capacity()-r.Capacity()/100 {
		return nil
	}
	return s.growing(r, fs)
}

// growing says how a file system on an array is made as large as that.
func (s *Service) growing(r *running, fs content.FileSystem) *control.FileSystemStatus {
	out := &control.FileSystemStatus{Kind: fs.Kind, End: fs.End, Command: fs.Grows + " DEVICE"}
	path := s.devicePath(r)
	switch {
	case fs.Mounted:
		out.Command = fs.Grows + " MOUNTPOINT"
		for _, by := range keeper.Holders(path) {
			if at, ok := strings.CutPrefix(by, "mounted at "); ok && path != "" {
				out.Command = fs.Grows + " " + at
			}
		}
	case path != "":
		out.Command = fs.Grows + " " + path
	}
	return out
}

// noteGrowth notes that an array has, or will have, more room than a file system on it knows of.
func (s *Service) noteGrowth(r *running, c *control.ChangeReply) {
	id := r.ID().String()
	if c.Then.Capacity <= c.Before.Capacity {
		return
	}
	if fs, ok := fileSystemOn(r); ok {
		c.FileSystem = s.growing(r, fs)
	}
	s.note(func(m *memory) {
		if !slices.Contains(m.Grew, id) {
			m.Grew = append(m.Grew, id)
		}
	})
}

// forgetGrowth forgets of arrays that they grew, where no file system is smaller any more.
func (s *Service) forgetGrowth() {
	for _, r := range s.running() {
		s.mu.Lock()
		grew := slices.Contains(s.mem.Grew, r.ID().String())
		s.mu.Unlock()
		if grew && r.Record().Turn == nil && r.Failure() == nil && s.smallFileSystem(r) == nil {
			s.note(func(m *memory) {
				m.Grew = slices.DeleteFunc(m.Grew, func(id string) bool { return id == r.ID().String() })
			})
		}
	}
}
