package main

import (
	"os"
	"os/exec"
	"os/signal"
	"sync"
	"syscall"
)

// begun lists the processes that this run has started and the folders that it has made. When the run is stopped both end with it: a folder in memory that
// stayed would fill the machine.
var begun struct {
	sync.Mutex
	processes []*os.Process
	paths     []string
}

// endWhenTold has everything that was begun end with this run when it is interrupted or told to end.
func endWhenTold() {
	told := make(chan os.Signal, 1)
	signal.Notify(told, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-told
		begun.Lock()                       // for good: nothing more begins
		for _, path := range begun.paths { // before its servers end: what is measured fails then, and so does this run
			_ = os.RemoveAll(path)
		}
		for _, p := range begun.processes {
			_ = p.Kill() // of one that has ended it is an error
		}
		os.Exit(1)
	}()
}

// begin starts a process that ends with this run.
func begin(c *exec.Cmd) error {
	begun.Lock()
	defer begun.Unlock()
	err := c.Start()
	if err == nil {
		begun.processes = append(begun.processes, c.Process)
	}
	return err
}

// folder makes a folder for files that are measured. Its maker removes it, or the run does when it is stopped before that.
func folder(place, name string) (string, error) {
	begun.Lock()
	defer begun.Unlock()
	dir, err := os.MkdirTemp(place, name)
	if err == nil {
		begun.paths = append(begun.paths, dir)
	}
	return dir, err
}
