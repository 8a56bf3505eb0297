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

**4 KiB write + flush, 16 clients.** Where a client flushes after each write, its writes go through since 2026-11-30 ([the data path](data-path.md#what-a-flush-waits-for)): 16 clients have
1.25 to 1.6 times the rate, 64 have 1.6 times, one has 1.2 times. Before, a joint flush did the work of three or four clients, and the others waited for it: a fifth of both processors idled, because threads of the service that
one woke another waited for the same processor while the other idled (14 of 18% when the kernel's scheduler was watched for 0.4 s), and goroutines that wait and are woken took 3 µs. Now a twentieth idles. The other half of
the gain is that few blocks are written in place at once where members are quick, in place of by a goroutine of their own.
nbdkit and its clients take 22 µs of both processors for a write with its flush. Half of its rate leaves 45. The clients take 15 of them here, since they find less in the caches, and 2 to 4 idle. The service takes 31: 11 for the
socket and the protocol, 9 for reads and writes of the members, 3 for sums, parity and copies, and 8 for all that makes it an engine (sums of blocks, the cache, locks, the order of batches, memory). The bare service of the scheme takes 22
and has 0.64 to 0.7 of nbdkit's rate; Nidalo has 0.7 to 0.75 of what that leaves.
Tried without a gain: other time slices, nice levels and classes of the kernel's scheduler, threads bound to processors, journals of 8 to 64 MiB, a build that is guided by a profile; and, before writes went through, loops of our own in place of a
goroutine for each connection (1.04 to 1.17 times the rate, and a disk that hangs would hold every client of its loop).
One running goroutine more than there are processors is worth a seventh to random reads of an attached array, and costs 5% here and 3 to 7% where one client has 32 requests on their way: so the service has it while a keeper is connected,
and while more than 2,000 flushes a second go with others: to clients that write twice before each flush it is worth a sixth.

**Members elsewhere.** Client, service and lender share two CPUs, so what the lender does is missing elsewhere; on hosts of their own it is not. Since the evening of 2026-11-29 the lender sends long reads of files straight from there, without TLS: a mebibyte costs it
0.22 ms of processor where it was 0.44, and the service 0.53 where it was 0.45, since it finds the data cold. With files here the service takes 0.42; the client 0.20 in both cases. When the file cannot be read after the reply has begun, the connection ends, and the next read is copied, which can
tell why. Lent disks are read past the system's memory instead, without the first of the lender's copies. The two copies and the socket alone leave three quarters of the speed with files here. Tried without a gain of more than the noise: reads in pieces of 64 KiB at
the lender, receive buffers of 128 KiB to 1 MiB, pieces of 256 KiB and 1 MiB at the service, huge pages, a GOMAXPROCS of two to four.
A random write of 4 KiB is two requests to lenders, one read and one write, since many blocks share what has to be read. Each took 12 µs of the lender's processor while they came one at a time. Up to 64 of them go out together now, and the lender takes in and answers eight with one system call each:
with files here at 280 MiB/s, those elsewhere came from 113 to 170. Half of that is the reading ahead of what a destage needs, a third the lender, which served requests one by one whenever one of the last 64 had taken longer than 50 µs, and the rest what is written in place. Tried without a gain: to hold requests back until a
reply comes, 64 stripes at a time in place of 16, and sixteen requests in turn in place of eight.

**4 KiB random write.** Each block is two reads, two journal blocks and two blocks in place where the peer copies one. The bare service of
the scheme has 0.38 of nbdkit's rate in memory, and Nidalo 1.4 times that, since it writes neighbours and blocks that were written twice in one go. On the real disk the target is
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
