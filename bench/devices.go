package main

import (
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// devices measures what it costs or wins that block devices are read and written past the system's memory: the same array on loop
// devices, whose files the system keeps in memory below, and on the files themselves.
func devices(place string) {
	if os.Geteuid() != 0 || !wanted("loop devices") {
		return
	}
	dir, err := folder(place, "loops")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	files := make([]string, 4)
	loops := make([]string, 4)
	for i := range files {
		files[i] = filepath.Join(dir, fmt.Sprint("file", i))
		image := filepath.Join(dir, fmt.Sprint("image", i))
		for _, p := range []string{files[i], image} {
			if err := os.WriteFile(p, nil, 0o600); err != nil {
				log.Fatal(err)
			}
			if err := os.Truncate(p, 640<<20); err != nil {
				log.Fatal(err)
			}
		}
		out, err := exec.Command("losetup", "-f", "--show", image).Output()
		if err != nil {
			log.Printf("no loop devices here: %v", err)
			return
		}
		loops[i] = strings.TrimSpace(string(out))
		defer func() { _ = exec.Command("losetup", "-d", loops[i]).Run() }()
	}
	make1 := func(name string, on []string) *server {
		home := filepath.Join(dir, name)
		nidalo(home, append([]string{"create", "-yes", "-name", "t", "-level", "5"}, on...)...)
		return &server{name: name, dir: home}
	}
	file := make1("files", files) // first: the array on devices is seen from every home, and names are taken once
	device := make1("devices", loops)
	jobs := []struct {
		name string
		args []string
	}{
		{"sequential writing", []string{"--rw=write", "--bs=1M", "--size=768M", "--iodepth=4", "--end_fsync=1"}},
		{"sequential reading", []string{"--rw=read", "--bs=1M", "--size=768M", "--iodepth=4"}},
		{"random writing", []string{"--rw=randwrite", "--bs=4k", "--size=64M", "--iodepth=16", "--end_fsync=1"}},
		{"random reading", []string{"--rw=randread", "--bs=4k", "--size=768M", "--io_size=64M", "--iodepth=16"}},
	}
	for _, j := range jobs {
		var ours, theirs []float64
		for range *rounds {
			for _, s := range []*server{device, file} {
				s.start()
				rate, _ := fio(s.uri, j.args...)
				s.stop()
				if s == device {
					ours = append(ours, rate/1e6)
				} else {
					theirs = append(theirs, rate/1e6)
				}
			}
		}
		add(row{Place: filepath.Base(place), Name: j.name + " on loop devices, past the memory", Ours: median(ours), Theirs: median(theirs), Unit: "MB/s", Peer: "files", Target: 0.4,
			Limit: "a check reads the medium; memory is not filled twice; the loop device itself costs a copy and a thread"})
	}
}
