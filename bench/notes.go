package main

import "os/exec"

func run(name string, args ...string) error { return exec.Command(name, args...).Run() }

// notes is what the figures need to be read rightly.
const notes = `
## How to read this

* The peer of the served rows is a server of a plain file, nbdkit with its file plugin: one file, no redundancy, no checksums, no
  journal. Its figures on tmpfs are those of the socket and one copy into memory. ` + "`go run . -peers nbdkit,qemu-nbd`" + ` takes another one, too.
* Client, server and members share the CPUs of one machine, so every extra byte a server touches shows.
* The peer never syncs until it is asked; neither does Nidalo report a flush before its journals are synced.
* "Rounds" is the lowest and the highest ratio of single rounds, which alternate with the peer. A round of less than a minute during which the host of this
  machine gave more than 5% of its processors to other machines is made again, twice as often at most, and the calmest count.
* "The bare system calls of the scheme" is a loop that does to the members' files what the level must do and nothing else: no cache, no
  tables, no protocol. For 4 KiB at level 5 that is two reads, CRC and XOR, two journal writes (and syncs, where a flush is asked for), two
  writes in place; for whole stripes P and Q, CRC, and one or two writes of every strip. What it takes beyond the peer's one write is
  added to the peer's time for a request: an engine with this scheme cannot be faster.
* "A bare service of the scheme" is those system calls behind the protocol's front that Nidalo has: a write does them for its block, a flush syncs the members that
  were written. It has no cache, no tables and no order between clients, and nothing of it could be recovered. What Nidalo lacks to it is what its engine takes beyond the
  scheme; what that lacks to nbdkit is the scheme and the front.
* A bare loop of a rebuild, a check or a retirement reads, sums, computes and writes as much, from two goroutines.

## What limits the rows

**P and Q on one processor.** The processor of 2026-11-29 multiplies bytes by a matrix of bits in one instruction (GFNI), which the library uses, and Nidalo too since that day: P and Q of 8+2 went from 37 to 81 GB/s, P, Q and R of
8+3 from 20 to 69, two lost strips from 26 to 72. Each byte is read once, from the second-level cache. Without such an instruction the ratios to the library were 2.53, 1.98 and 1.62 (2026-11-27).

**4 KiB write + flush, one client.** Two members are written twice and synced where the peer writes and syncs one file. The bare row says how
much of the peer's speed that leaves. The rest is lost on the path of one request through the engine and back.

**4 KiB write + flush, 16 clients.** A write with its flush takes 35 µs of the service's processor time (17.5 its own code, 17.5 the system), where it was 42 before flushes went together (2026-11-29, in
a fast hour), and 18 of the clients'. Of the system's share six are for the two replies, four for the requests, and the rest for two reads, two writes in place and one or two to the journals.
The processors idle for a sixth of the time although something is ready: for 27% of half a second that the kernel's scheduler was watched, one processor idled while up to three threads waited for the other. A reply
wakes a client on the processor of the thread that sends it, which then waits with what it holds, and a processor that idles for some tens of µs fetches no work from the other. So Go has one running goroutine more than
there are processors since 2026-11-29: a fifth to a quarter in a fast hour, a twentieth in a slow one, at 3 to 5% less for one client that has 32 requests on their way. Four or six more, another nice level, the
kernel's class for batch work, sockets that block with a thread each, and letting others go on before a flush begins won nothing. Where the time is was measured with three servers that have the same protocol front
(2026-11-27, 16 clients): one of a plain file does 38,500 a second, as many as nbdkit; one that does the bare system calls of the scheme on each flush 30,500, with 13 µs of its own code and 24 µs of the system a request;
Nidalo 16,800, with 45 and 34 µs then. With more clients the way is shorter than it was: 64 have 22,000 to 34,000 a second where they had 20,000 to 26,000, and 256 have 20,000 to 31,000 where they had 14,000 to 17,000.

**Members elsewhere.** Client, service and lender share two CPUs, so what the lender does is missing elsewhere; on hosts of their own it is not. Each byte that is read is copied twice more: into the
socket, and out of it. A third copy, which kept a late answer from landing in memory that is in use for something else by then, is gone since 2026-11-28: a read that is given up is revoked.
The two copies and the socket alone leave three quarters of the speed with files here; requests, wake-ups and what does not fit into the second-level cache take the rest.

**4 KiB random write.** Each block is two reads, two journal blocks and two blocks in place where the peer copies one. On the real disk the target is
met because destages sort what they write. Until 2026-11-28 the cache held each strip in a piece of address space of its own, of which the blocks that were written took memory: to fault those in and
to give them back cost 5 µs a block here, a seventh of all. Scattered blocks are in buffers of their own now, which stay.

**Sequential overwrite.** Everything is journalled once and written in place once, 2 × 8/6 of the bytes;
[the data path](data-path.md#what-an-overwrite-must-cost) proves that no scheme that overwrites in place can journal less.

**Sequential reads and fresh writes** are within the noise of this machine around their targets: the same build gave 0.90 to 1.27 and
0.54 to 0.86 in runs an hour apart. Before anything is measured 10 GiB are written and dropped, so that the host has given this machine its
memory; otherwise the first server to be measured would pay for that.

**24 members of 250 MiB/s.** The memory of this machine does not carry 6 GB/s that are read, summed and computed by two CPUs: the bare loop has
some 200 MiB/s of each member. Rebuild, check and retire are measured against that loop instead.

## What the ring wins

Small operations on devices go to the kernel through io_uring. The program with and without it in turn, median of 4 rounds on 2026-11-27, level 5 of
four loop devices whose files are read and written past the system's memory as well, so that every operation waits for the real disk:

| work | with | without | ratio |
|---|---|---|---|
| 4 KiB random read, depth 32 | 140 MB/s | 107 | 1.31 |
| 4 KiB random write, depth 32 | 62 MB/s | 43 | 1.44 |
| 4 KiB write + flush, 16 clients | 20 MB/s | 14 | 1.38 |
| sequential read 1 MiB | 806 MB/s | 835 | 0.97 |
| sequential write 1 MiB | 440 MB/s | 415 | 1.06 |

Operations of more than 16 KiB take the plain calls, since with them sequential reads lost 7%. On files nothing is won. Bare calls of 4 KiB in batches
of 1 to 32, against plain calls from one goroutine: in memory 0.2 to 0.7 of their speed, because the kernel hands each to a thread; on a
file system writes 0.6 to 0.9, and reads from its memory 0.8 to 1.6, where plain calls from four goroutines have more.
`
