#!/usr/bin/env bash
# Breaks a copy of the engine in one way after the other and wants the crash machine to notice each. Prints the seed that did.
set -euo pipefail
top=$(git -C "$(dirname "${BASH_SOURCE[0]}")" rev-parse --show-toplevel)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
missed=0
# mutation NAME FILE PERL-SUBSTITUTION
mutation() {
  rm -rf "$work/tree" && mkdir "$work/tree"
  git -C "$top" archive HEAD go.mod go.sum core internal | tar -x -C "$work/tree"
  cp "$work/tree/internal/array/$2" "$work/before"
  perl -0pi -e "$3" "$work/tree/internal/array/$2"
  if cmp -s "$work/before" "$work/tree/internal/array/$2"; then
    echo "$1: does not apply any more; mend this script"
    missed=1
    return
  fi
  if ! (cd "$work/tree" && go vet -tags machine ./internal/array >/dev/null 2>&1); then
    echo "$1: does not compile; mend this script"
    missed=1
    return
  fi
  if (cd "$work/tree" && NIDALO_SEEDS="${SEEDS:-2000}" go test -timeout 15m -tags machine ./internal/crash -run PowerCuts >"$work/out" 2>&1); then
    echo "$1: NOT CAUGHT in ${SEEDS:-2000} seeds"
    missed=1
  else
    echo "$1: caught by seed $(grep -o 'seed [0-9]*' "$work/out" | head -1 | cut -d' ' -f2): $(grep -o 'seed [0-9]*: .*' "$work/out" | head -1 | cut -d: -f2- | cut -c1-90)"
  fi
}
mutation "journal entry not synced" journal.go 's/errs\[i\] = parts\[i\]\.m\.sync\(\)/_ = 0/'
mutation "in place before the commit" destage.go 's/(return a\.journal\.commit\(c\))/if _, err := a.writeInPlace(c.writes, record.RunPayload); err != nil {\n\t\treturn err\n\t}\n\t$1/'
mutation "fresh blocks committed before they are synced" destage.go 's/if err := a\.syncMembers\(touched\); err != nil \{\n\t\treturn err\n\t\}/_ = touched/'
mutation "checksum of single blocks not updated" destage.go 's/a\.tables\.enter\(w\.m, w\.kind/if w.n == 1 {\n\t\t\tcontinue\n\t\t}\n\t\ta.tables.enter(w.m, w.kind/'
mutation "checkpoint without syncing the data" journal.go 's/if always \|\| len\(pages\) > 0 \{/if len(pages) > 0 \&\& !always {/'
mutation "checkpoint forgets the checksum pages" journal.go 's/if err := a\.settle\(sums, number, true\); err != nil \{\n\t\treturn err\n\t\}/a.tables.clean(sums)/'
mutation "last batch replayed although incomplete" replay.go 's/if n == last && len\(batch\.lacking\) > 0 \{/if false {/'
mutation "completed batch not synced" replay.go 's/err = s\.m\.sync\(\)/_ = 0/'
mutation "lacking members trusted" replay.go 's/a\.tables\.set\(m, st\.Row\*int64\(a\.geo\.StripBlocks\(\)\)\+int64\(t\.col\), t\.n, nil, record\.SumLost\)/_ = m/'
mutation "older payload over newer contents" replay.go 's/if runs\[i\]\.batch > batch && block < runs\[i\]\.end/if false/'
mutation "columns fresh on too little evidence" columns.go 's/return unknown <= c\.a\.geo\.Parity/return true/'
mutation "a returned member's own journal forgotten" return.go 's/a\.loseRuns\(m, unsettled\.runs, own\.Epoch\)/a.loseRuns(m, nil, own.Epoch)/'
mutation "changes not stamped with their epoch" tables.go 's/record\.SetPageEpoch\(p\.buf, max\(epoch, record\.PageEpoch\(p\.buf\)\)\)/_ = epoch/'
mutation "writes not mirrored onto a copy" destage.go 's/if err := a\.mirror\(c\.writes\); err != nil \{\n\t\treturn err\n\t\}//'
mutation "copies not mended after a crash" replay.go 's/if err := a\.remirror\(slices\.Compact\(mirrored\)\); err != nil \{\n\t\treturn err\n\t\}/_ = mirrored/'
mutation "batch numbers begin again" replay.go 's/last \+ restartGap$/first - 1/m'
mutation "parity of overwrites not journalled" destage.go 's/p\.add\(m, kind, col\+c, row/p.add(m, record.RunInPlace, col+c, row/'
mutation "failed member not written down" roster.go 's/if err := a\.roster\.write\(a\); err != nil \{\n\t\ta\.freeze/a.roster.unsettled.Store(false)\n\tif err := error(nil); err != nil {\n\t\ta.freeze/'
mutation "only new sums stamped with their epoch" tables.go 's/again := .*/again := false/'
mutation "what changes while a member is away not marked" roster.go 's/marked\.Mark\(record\.ChangePart\(number, a\.geo\.Stripes\(\)\)\)/_ = number/'
mutation "batches that lose a member not marked" journal.go 's/if slices\.ContainsFunc\(parts, func\(p part\) bool \{ return !p\.m\.live\(\) \}\) \{/if false {/'
mutation "replayed batches not marked" replay.go 's/a\.mark\(slices\.Values\(stripes\)\)/a.mark(slices.Values([]int64(nil)))/'
mutation "brought back without giving anything up" readmit.go 's/if a\.trusts\(st, a\.geo\.Role\(st, m\.slot\), stale\) \{/if true {/'
mutation "brought back with its journal" readmit.go 's/a\.loseRuns\(m, own\.runs, epoch\)/a.loseRuns(m, own.runs[:0], epoch)/'
mutation "brought back without the others having settled" readmit.go 's/return b, b\.replay\(\)/return b, nil/'
mutation "joining head claims too much" create.go 's/j\.settled\.Load\(\) \+ 1|a\.journal\.settled\.Load\(\) \+ 1/a.journal.batch + 1/'
mutation "dirty cleared before written" tables.go 's/(case p\.key\.kind == record\.SumPage:\n)/$1\t\t\tt.setClean(p)\n/'
mutation "tables before cache" array.go 's/(\ti, _ := slices\.BinarySearch\(h\.dirty, number\))/\tdefer func() { h.dirty = h.a.cache.dirtyStripes() }()\n$1/'
mutation "witness not compared" tables.go 's/if old := .*; old \{/if false {/'
mutation "pages written before their sync are witnessed" journal.go 's/(\tif err := a\.settle\(sums, number, true\))/\tfor _, d := range sums {\n\t\td.p.number = number\n\t}\n$1/'
mutation "a vanishing in a return loses the base" roster.go 's/base = m\.left/base = 0/'
mutation "left is the epoch of the roster" roster.go 's/leaves\(r\.rec, m\.slot, to, a\.now\(\), m\.has, m\.tried, base\)/leaves(r.rec, m.slot, to, a.now(), stateOfRecord(r.rec), stateOfRecord(r.rec), base)/'
mutation "copies are stamped with the present epoch" retire.go 's/a\.tables\.setAs\(m, a\.changesOf\(old\), first, n, sums, 0\)/a.tables.set(m, first, n, sums, 0)/'
mutation "part-block write forgets the cache" cache.go 's/s\.cur\.read\(pc\.role, int\(\(pc\.from\+off\)\/Block\), pc\.buf\[off:\]\[:Block\]\)/_ = off/'
mutation "dropped batch not dropped" replay.go 's/\t\t\ta\.dropped\(batch\)\n//'
mutation "active before the roster says so" roster.go 's/(\tr\.arriving = m\n)/$1\tm.state.Store(int32(record.Active))\n/'
mutation "late everywhere is lost" columns.go 's/if c\.awaited\(\) == nil \{/if true {/'
exit $missed
