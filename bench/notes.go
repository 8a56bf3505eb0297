package main

import "os/exec"

func run(name string, args ...string) error { return exec.Command(name, args...).Run() }

// notes is what the figures need to be read rightly.
const notes = `
## How to read this

* A plain-file server (nbdkit with its file plugin) is the peer of the served rows: one file, no redundancy, no checksums,
  no journal. Its figures on tmpfs are those of the socket and one copy into memory.
* Client, server and members share the CPUs of one machine, so every extra byte a server touches shows.
* The peer never syncs until it is asked; neither does Nidalo report a flush before its journals are synced.

## Where a target is missed

**4 KiB random write on tmpfs.** A block costs the peer one copy of 4 KiB into cold memory. An array of level 5 reads two
blocks, computes, writes two to journals and two in place: six touches of cold memory for one. A profile of the service under
this load (serve -profile, 6 s) has 54% of its CPU time in system calls (most of it those copies), 12% in moving data between
buffers, 7% in XOR and CRC; client and server together keep both CPUs busy. On the real disk, where the peer too waits, the
target is met. That profile shows where the time goes; it does not prove that no better is possible.

**4 KiB write + flush** and **sequential reads** are within the noise of this machine around their targets: the same build
gave 0.40 to 0.51, and 0.91 to 1.07, in runs an hour apart.

**Rebuild at a given rate** loses about a tenth: the first pieces are read before the first is written, and the last are
written when nothing is read any more.
`
