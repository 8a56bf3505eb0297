package disks

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/keeper"
	"nidalo/internal/remote"
)

// People call disks by bay, serial or absolute path. A word that means two disks is refused, and a path that depends on a current folder
// is not taken.

// Locate finds the source that a word means.
func (s *Survey) Locate(name string) (Source, error) {
	sources, err := s.Sources(true)
	if err != nil {
		return Source{}, err
	}
	if remote.Is(name) {
		return s.locateFar(name, sources)
	}
	return s.among(name, sources)
}

// LocateHere is Locate among the disks of this host: no other host is asked.
func (s *Survey) LocateHere(name string) (Source, error) {
	sources, _, err := s.here(true)
	if err != nil {
		return Source{}, err
	}
	return s.among(name, sources)
}

func (s *Survey) among(name string, sources []Source) (Source, error) {
	path := ""
	if filepath.IsAbs(name) {
		path = filepath.Clean(name)
		if d, ok := s.DeviceAt(path); ok {
			path = d.Path // whatever name of it was used
		}
	}
	var hits []Source
	for _, src := range sources {
		if s.means(name, path, src) && !slices.Contains(hits, src) {
			hits = append(hits, src)
		}
	}
	if len(hits) > 1 { // a disk that this host lends, also to itself, is used as all hosts use it
		hits = slices.DeleteFunc(hits, s.lent)
	}
	hints := []string{"nidalo disks   lists the disks by bay, serial and path"}
	switch {
	case path != "" && keeper.Own(path) != "":
		return Source{}, &control.Error{What: fmt.Sprintf("disk %s is on array %q, which is attached to this host: an array must not be built on another one of the same service", say.Quote(name), keeper.Own(path)),
			Hints: []string{"when memory is short, each would wait for the other"}}
	case len(hits) > 1:
		var names []string
		for _, src := range hits {
			names = append(names, say.Quote(src.String()))
		}
		return Source{}, &control.Error{What: fmt.Sprintf("disk %q: that means %d disks: %s", name, len(hits), strings.Join(names, ", ")), Hints: []string{"name it by its bay or path instead"}}
	case len(hits) == 1:
		return hits[0], nil
	case path != "":
		if info, err := os.Stat(path); err == nil && !info.IsDir() {
			return Source{Path: path}, nil
		}
		return Source{}, &control.Error{What: fmt.Sprintf("disk %s: there is no such file or device", say.Quote(name)), Hints: hints}
	case strings.Contains(name, "/"):
		return Source{}, &control.Error{What: fmt.Sprintf("disk %s: not an absolute path", say.Quote(name)), Hints: hints}
	}
	return Source{}, &control.Error{What: fmt.Sprintf("disk %q: no bay, serial or path has that name", name), Hints: hints}
}

// means says whether a word, which is this path if it is one, means the disk in a source.
func (s *Survey) means(name, path string, src Source) bool {
	if src.Bay != "" && src.Bay == name || src.Path != "" && src.Path == path {
		return true
	}
	if name == "" {
		return false
	}
	if src.Bay != "" {
		d, err := s.host.Lab.Disk(src.Bay)
		return err == nil && (d.Serial == name || path != "" && s.host.Lab.ImagePath(src.Bay) == path)
	}
	if d, ok := s.DeviceAt(src.Path); ok && (d.Named() == name || d.Bay == name && d.Whole()) {
		return true
	}
	if at, far := src.Far(); far {
		id := s.host.Far.Identity(at)
		return id.Serial == name || id.Bay == name
	}
	f, ok := s.At(src)
	return ok && f.Info.Serial == name
}

// lent says whether a disk of this host is lent.
func (s *Survey) lent(src Source) bool {
	_, far := src.Far()
	f, seen := s.At(src)
	return !far && seen && s.host.Lent(f.Info.Identity) != ""
}

// locateFar finds the source of an address of a lent disk.
func (s *Survey) locateFar(word string, sources []Source) (Source, error) {
	at, err := remote.ParseAddress(word)
	if err == nil && at.Disk == "" {
		err = errors.New("it names no disk")
	}
	if err != nil {
		return Source{}, &control.Error{What: fmt.Sprintf("disk %s: %v", say.Quote(word), err)}
	}
	src := Source{Path: s.host.Far.Identity(at).Path}
	if slices.Contains(sources, src) {
		return src, nil
	}
	switch _, known, why := s.host.Far.Lent(at); {
	case why != nil:
		return Source{}, &control.Error{What: fmt.Sprintf("disk %s: its host is out of touch: %v", say.Quote(word), why)}
	case !known:
		return Source{}, &control.Error{What: fmt.Sprintf("disk %s: host %s lends no such disk to this one", say.Quote(word), s.host.Far.At(at).Name()),
			Hints: []string{"nidalo lend -to THIS-HOST DISK   lends one, on that host"}}
	}
	return src, nil
}

// SourceOf is where a disk is that was opened before.
func (s *Survey) SourceOf(i state.Identity) Source {
	if i.Bay != "" && s.host.Lab.Exists() && s.host.Lab.ImagePath(i.Bay) == i.Path {
		return Source{Bay: i.Bay}
	}
	return Source{Path: i.Path}
}
