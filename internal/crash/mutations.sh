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
  if (cd "$work/tree" && NIDALO_SEEDS="${SEEDS:-5000}" go test -timeout 10m ./internal/crash >"$work/out" 2>&1); then
    echo "$1: NOT CAUGHT in ${SEEDS:-5000} seeds"
    missed=1
  else
    echo "$1: caught by seed $(grep -o 'seed [0-9]*' "$work/out" | head -1 | cut -d' ' -f2): $(grep -o 'seed [0-9]*: .*' "$work/out" | head -1 | cut -d: -f2- | cut -c1-90)"
  fi
}
mutation "journal entry not synced" journal.go 's/errs\[i\] = parts\[i\]\.m\.disk\.Sync\(\)/_ = 0/g'
mutation "in place before the commit" destage.go 's/(return a\.journal\.commit\(c\))/if _, err := a.writeInPlace(c.writes, record.RunPayload); err != nil {\n\t\treturn err\n\t}\n\t$1/'
mutation "fresh blocks committed before they are synced" destage.go 's/if err := a\.syncMembers\(touched\); err != nil \{\n\t\treturn err\n\t\}/_ = touched/'
mutation "checksum of single blocks not updated" destage.go 's/a\.tables\.enter\(w\.m, w\.kind/if w.n == 1 {\n\t\t\tcontinue\n\t\t}\n\t\ta.tables.enter(w.m, w.kind/'
mutation "checkpoint without syncing the data" journal.go 's/if err := a\.syncAll\(\); err != nil \{\n\t\treturn err\n\t\}\n\tif len\(maps\)/if len(maps)/'
mutation "checkpoint forgets the checksum pages" journal.go 's/if err := a\.writePages\(sums\); err != nil \{\n\t\treturn err\n\t\}/_ = sums/'
mutation "last batch replayed although incomplete" replay.go 's/if n == last && len\(batch\.lacking\) > 0 \{/if false {/'
mutation "completed batch not synced" replay.go 's/err = s\.m\.disk\.Sync\(\)/_ = 0/'
mutation "lacking members trusted" replay.go 's/a\.tables\.set\(m, st\.Row\*int64\(a\.geo\.StripBlocks\(\)\)\+int64\(t\.col\), t\.n, nil, record\.SumLost\)/_ = m/'
mutation "older payload over newer contents" replay.go 's/if runs\[i\]\.batch > batch && block < runs\[i\]\.end/if false/'
mutation "columns fresh on too little evidence" columns.go 's/return unknown <= c\.a\.geo\.Parity/return true/'
mutation "a returned member's own journal forgotten" return.go 's/if err := m\.loseRuns\(runs, own\.Epoch\); err != nil \{\n\t\treturn err\n\t\}/_ = runs/'
mutation "changes not stamped with their epoch" tables.go 's/record\.SetPageEpoch\(p\.buf, epoch\)/_ = epoch/'
mutation "writes not mirrored onto a copy" destage.go 's/if err := a\.mirror\(c\.writes\); err != nil \{\n\t\treturn err\n\t\}//'
mutation "copies not mended after a crash" replay.go 's/if err := a\.remirror\(slices\.Compact\(mirrored\)\); err != nil \{\n\t\treturn err\n\t\}/_ = mirrored/'
mutation "batch numbers begin again" replay.go 's/last \+ 16/first - 1/'
mutation "parity of overwrites not journalled" destage.go 's/p\.add\(m, kind, col\+c, row/p.add(m, record.RunInPlace, col+c, row/'
mutation "failed member not written down" roster.go 's/if err := a\.roster\.write\(a\); err != nil \{\n\t\ta\.freeze/a.roster.unsettled.Store(false)\n\tif err := error(nil); err != nil {\n\t\ta.freeze/'
mutation "only new sums stamped with their epoch" tables.go 's/again := .*/again := false/'
mutation "what changes while a member is away not marked" roster.go 's/marked\.Mark\(record\.ChangePart\(number, a\.geo\.Stripes\(\)\)\)/_ = number/'
mutation "batches that lose a member not marked" journal.go 's/if slices\.ContainsFunc\(parts, func\(p part\) bool \{ return !p\.m\.live\(\) \}\) \{/if false {/'
mutation "replayed batches not marked" replay.go 's/a\.mark\(slices\.Values\(stripes\)\)/a.mark(slices.Values([]int64(nil)))/'
mutation "brought back without giving anything up" readmit.go 's/if a\.trusts\(st, a\.geo\.Role\(st, m\.slot\), stale\) \{/if true {/'
mutation "brought back with its journal" readmit.go 's/if err := m\.loseRuns\(own\.runs, epoch\)/if err := m.loseRuns(own.runs[:0], epoch)/'
mutation "brought back without the others having settled" readmit.go 's/return b, b\.replay\(\)/return b, nil/'
exit $missed
