# Two commands do everything on a fresh machine: make demo, make test.
GO      ?= go
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo unknown)
LDFLAGS  = -s -w -X nidalo/internal/cli.Version=$(VERSION)
SEEDS   ?= 100000
MINUTES ?= 2

export CGO_ENABLED = 0

.PHONY: build check deb screenshots demo demo-hosts test beside test-vm vm tools lint unit race crash fuzz cross soak bench scale bench-quick bench-against clean

build:
	$(GO) build -trimpath -ldflags "$(LDFLAGS)" -o nidalo ./cmd/nidalo

# A Debian package in dist/, without root rights.
deb: build
	packaging/deb.sh ./nidalo "$(VERSION)" dist

demo: build
	./nidalo demo

# Three hosts on this machine, with an etcd that decides between them.
demo-hosts: build
	@which etcd >/dev/null || (apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends etcd-server >/dev/null)
	./nidalo demo -hosts

test: tools lint cross build beside crash fuzz

# The guest takes one processor and little else; the other tests mostly wait.
beside:
	@log=$$(mktemp); $(MAKE) --no-print-directory vm >$$log 2>&1 & vm=$$!; bad=0; \
	$(MAKE) --no-print-directory unit race || bad=1; wait $$vm || bad=1; cat $$log; rm -f $$log; exit $$bad

# For in between: what is quick, and the stories.
check:
	@out=$$(gofmt -l $$(git ls-files '*.go')); if [ -n "$$out" ]; then echo "not gofmt-ed: $$out"; exit 1; fi
	$(GO) vet ./...
	$(GO) test ./core/... $$($(GO) list ./internal/... | grep -v -e internal/array$$ -e internal/crash -e internal/service)
	$(GO) test -run 'TestStories|TestDependencies' ./test

# What the tests drive beside Go: clients of the block protocol, a file system.
tools:
	@if ! (which nbdinfo nbdcopy nbdfuse qemu-img qemu-io fio mkfs.ext4 e2fsck losetup fusermount3 gcc tmux promtool amtool chromium tidy \
	    qemu-system-x86_64 nbdkit cpio sfdisk depmod xz jq etcd etcdctl >/dev/null 2>&1); then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends \
	    libnbd-bin qemu-utils fio e2fsprogs fuse3 util-linux tmux prometheus prometheus-alertmanager chromium tidy gcc libc6-dev \
	    qemu-system-x86 nbdkit cpio fdisk kmod xz-utils jq etcd-server etcd-client >/dev/null; fi

lint:
	@out=$$(gofmt -l $$(git ls-files '*.go')); if [ -n "$$out" ]; then echo "not gofmt-ed: $$out"; exit 1; fi
	$(GO) vet ./...
	$(GO) vet -tags machine ./internal/env ./internal/probe ./internal/disk ./internal/array/... ./internal/crash
	$(GO) tool staticcheck ./...
	$(GO) tool staticcheck -tags machine ./internal/env ./internal/probe ./internal/disk ./internal/array/... ./internal/crash
	cd bench && $(GO) vet . && $(GO) test .

cross:
	GOOS=linux GOARCH=arm64 $(GO) build -o /dev/null ./cmd/nidalo
	GOOS=darwin GOARCH=arm64 $(GO) build -o /dev/null ./cmd/nidalo
	GOOS=linux GOARCH=arm64 $(GO) vet ./core/... ./internal/...

unit:
	$(GO) test -parallel 3 -timeout 40m $$($(GO) list ./... | grep -v -e internal/crash -e test/vm)

# The race detector needs cgo and a C compiler; the product does not.
race:
	CGO_ENABLED=1 $(GO) test -timeout 40m -race ./internal/keeper ./internal/carryover ./internal/passage
	CGO_ENABLED=1 $(GO) test -timeout 40m -race -run 'Rebuild|Race|Parallel|Hostile|Joining|Returning|NeverAHole|PartBlock|VanishesIn|LeavesTheSpare|Paused|ThatWaits|Forged|AConversionSurvives' ./internal/array ./internal/nbd
	NIDALO_RACE=1 $(GO) test -timeout 40m -run 'ComesBackInAnotherBay|WaitForEachOther|ForMonitoring|BroughtBack|LinksBreak' ./test

# The engine that ships under a scheduler that follows a seed: as many of 6,500 seeds as fit in MINUTES, on all processors,
# and every mistake that it can be told to make, which must be noticed. make soak plays other seeds.
crash:
	NIDALO_SEEDS=6500 NIDALO_MINUTES=$(MINUTES) $(GO) test -v -count 1 -timeout 60m -tags machine ./internal/env ./internal/disk ./internal/crash

# A Linux guest with real disks on real drivers. The first run makes its images of Debian's packages, which takes a minute.
# vm is the short set, test-vm all of it. NIDALO_VM_KERNEL boots another kernel, test-vm two of them.
vm: tools
	$(GO) test -count 1 -timeout 45m ./test/vm

test-vm: tools
	for kernel in linux-image-amd64 linux-image-6.12-amd64; do NIDALO_VM=all NIDALO_VM_KERNEL=$$kernel $(GO) test -count 1 -timeout 60m -v ./test/vm || exit 1; done

# By number, not by time: at the end of its time the fuzzer sometimes takes the input that it is in for one that failed.
fuzz:
	$(GO) test -run xxx -fuzz FuzzRecord -fuzztime 20000x -fuzzminimizetime 10x ./core/record
	$(GO) test -run xxx -fuzz FuzzEntry -fuzztime 40000x -fuzzminimizetime 10x ./core/record
	$(GO) test -run xxx -fuzz FuzzFind -fuzztime 80000x -fuzzminimizetime 10x ./core/content
	$(GO) test -run xxx -fuzz FuzzRead -fuzztime 1500x -fuzzminimizetime 10x ./internal/partition
	$(GO) test -run xxx -fuzz FuzzWish -fuzztime 50000x -fuzzminimizetime 10x ./internal/remote
	$(GO) test -run xxx -fuzz FuzzAbout -fuzztime 50000x -fuzzminimizetime 10x ./internal/remote
	$(GO) test -run xxx -fuzz FuzzSCSI -fuzztime 50000x -fuzzminimizetime 10x ./core/health
	$(GO) test -run xxx -fuzz FuzzPages -fuzztime 3000x -fuzzminimizetime 10x ./internal/survey
	$(GO) test -run xxx -fuzz FuzzOpen -fuzztime 1000x -fuzzminimizetime 10x ./internal/carryover
	$(GO) test -run xxx -fuzz FuzzServer -fuzztime 50000x -fuzzminimizetime 10x ./internal/nbd

# For as long as wanted: new seeds of the crash machine, 200 cycles of kill -9 under load with everything going on, the same
# with a file system that runs full, and five minutes of hostile clients. SOAK chooses other acts.
FROM ?= 1000000
SOAK ?= 1
soak: tools
	NIDALO_SEEDS=$(SEEDS) $(GO) test -count 1 -timeout 24h -tags machine ./internal/crash -v -run TestSeeds -args -from $(FROM)
	NIDALO_CYCLES=30 $(GO) test -timeout 1h -count 1 -run 'AfterEveryKill' ./test
	NIDALO_CYCLES=200 NIDALO_SOAK_SEED=$(SOAK) $(GO) test -timeout 2h -count 1 -v -run 'SurvivesTheSoak|SurvivesAFull' ./test
	NIDALO_CYCLES=100 NIDALO_SOAK_SEED=$(SOAK) $(GO) test -timeout 2h -count 1 -v -run 'TakeoversUnderLoad|EveryPairIsParted' ./test
	NIDALO_HOSTILE=300 $(GO) test -timeout 1h -count 1 -v -run 'HostileClients' ./test

# Measures against peers and writes the figures into docs/performance.md and docs/performance-guest.md. Needs nbdkit besides what the tests need.
bench: build tools
	@which nbdkit >/dev/null || (apt-get update -qq && apt-get install -y -qq --no-install-recommends nbdkit >/dev/null)
	cd bench && $(GO) run . -report ../docs/performance.md
	@set -e; { printf '# Performance in a guest\n\nWritten by `make bench`. The processor is emulated: only the ratios say something. What is said about attached arrays\nwith [the other figures](performance.md) explains these too.\n'; \
	  printf '\nA mirror of NVMe devices, which are read and written past the memory of the system, against one of files in file systems on such devices.\n\n'; \
	  NIDALO_VM_BENCH=3 $(GO) test -count 1 -timeout 30m -v -run TestRatesOfNVMe ./test/vm | grep '^|'; \
	  printf '\nAn attached array, by the client in the kernel, the keeper and the service, against the same client on a server of a plain file.\n\n'; \
	  NIDALO_VM_BENCH=3 $(GO) test -count 1 -timeout 30m -v -run TestRatesOfAttached ./test/vm | grep '^|'; } >docs/guest.new; \
	mv docs/guest.new docs/performance-guest.md

# What many hosts need, in a minute.
scale: build tools
	cd bench && $(GO) run . -scale ../docs/scale.md

# For in between: small loads in memory, in about two minutes.
bench-quick: build tools
	cd bench && $(GO) run . -rounds 1 -size 300 -places /dev/shm -only "level 5 of 4"

# Every row with this build and with that of another commit, in turn and without peers: make bench-against BASE=abc1234
ROUNDS ?= 9
bench-against: build tools
	@test -n "$(BASE)" || (echo "say which commit: make bench-against BASE=abc1234" && exit 1)
	rm -rf bench/.base && git worktree prune && git worktree add --detach bench/.base $(BASE)
	cd bench/.base && $(GO) build -trimpath -o ../base-nidalo ./cmd/nidalo
	git worktree remove --force bench/.base
	cd bench && $(GO) build -o bench-tool . && ./bench-tool -against ./base-nidalo -rounds $(ROUNDS); bad=$$?; rm -f bench-tool base-nidalo; exit $$bad

screenshots: build
	docs/screenshots/make.sh

clean:
	rm -rf nidalo dist
