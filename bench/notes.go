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

**4 KiB random write.** On tmpfs a block costs the peer one copy of 4 KiB into cold memory. An array of level 5 reads two
blocks, computes, writes two to journals and two in place: six touches of cold memory for one. A profile of the service
under this load (serve -profile) shows more than half of its time in the kernel's copies of those six, a tenth in moving data between
buffers, a tenth in XOR and CRC; the rest is spread thin. Nothing that is left to save in user space would reach the
target on two CPUs that also run the client; larger caches help, because blocks of one stripe then meet.
`
