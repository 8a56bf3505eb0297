package main

import "os/exec"

func run(name string, args ...string) error { return exec.Command(name, args...).Run() }

// notes is what the figures need to be read rightly.
const notes = `
## How to read this

* Two plain-file servers are the peers of the served rows: nbdkit with its file plugin, and qemu-nbd. One file, no redundancy, no
  checksums, no journal. Their figures on tmpfs are those of the socket and one copy into memory.
* Client, server and members share the CPUs of one machine, so every extra byte a server touches shows.
* The peers never sync until they are asked; neither does Nidalo report a flush before its journals are synced.
* "The bare system calls of the scheme" is a loop that does to four files what level 5 must do for each block of 4 KiB: two reads,
  CRC and XOR, two journal writes (and syncs, where a flush is asked for), two writes in place; no cache, no tables, no protocol. What
  it takes beyond the peer's one write is added to the peer's time for a request: an engine with this scheme cannot be faster.

## Where a target is missed

Against qemu-nbd no row misses its target. Against nbdkit, which does the least a server can do:

**4 KiB write + flush.** The bare row proves the limit: on the real disk no engine with this scheme can have more than about half of the
peer, because two files are written twice and synced where the peer writes and syncs one, and Nidalo has three quarters of what that
loop has. On tmpfs a sync costs nothing and the limit is higher; what is between it and us is the way of a request through the engine
and back, one at a time, on one CPU.

**4 KiB random write on tmpfs.** On the real disk the target is met, and the loop of bare system calls is no faster. On tmpfs the peer
copies 4 KiB once into memory that is there. A profile of the service (serve -profile, 8 s of this load, 2026-11-23: 420,000 blocks, 13.9 s
of CPU) has 16.6 µs a block in system calls, 2.5 µs in moving data into the cache, 2.5 µs in XOR and CRC, 3 µs in the collector, 1 µs in
table pages. The client takes 6.3 µs. System calls and client alone, with nothing else left, on two CPUs, are 11.5 µs a block: half of
the peer's speed in that run (5.9 µs). So the target is at the limit of the scheme on this machine, and we have 0.6 of that limit.

**Sequential reads and fresh writes** are within the noise of this machine around their targets: the same build gave 0.90 to 1.27 and
0.54 to 0.86 in runs an hour apart, and so did the build of the day before. Before anything is measured 10 GiB are written and dropped,
so that the host has given this machine its memory; without that whoever was first paid for it.
`
