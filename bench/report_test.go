package main

import (
	"strings"
	"testing"
)

func TestAReportKeepsWhatWasNotMeasured(t *testing.T) {
	defer func() { rows, chapters = nil, nil }()
	rows = []row{{Place: "tmp", Name: "reading", Ours: 30, Theirs: 20, Unit: "MB/s", Peer: "file", Target: 1, Limit: "the socket"},
		{Place: "tmp", Name: "writing", Ours: 5, Theirs: 20, Unit: "MB/s", Peer: "file", Target: 1, Limit: "the disk"}}
	chapters = []chapter{{"Growth", "| a |\n|---|\n"}}
	first := renew("", "2026-01-01") + "\n" + prose + "\n\n* by hand\n"
	rows = []row{{Place: "tmp", Name: "writing", Ours: 21, Theirs: 20, Unit: "MB/s", Peer: "file", Target: 1, Limit: "the disk"}}
	chapters = []chapter{{"Latency", "| b |\n|---|\n"}}
	second := renew(first, "2026-01-02")
	for _, want := range []string{
		"| tmp | reading | 30 MB/s | file 20 | 1.50 | one round | ≥ 1.00, met | the socket | 2026-01-01 |\n",
		"| tmp | writing | 21 MB/s | file 20 | 1.05 | one round | ≥ 1.00, met | the disk | 2026-01-02 |\n",
		"\n## Growth\n\n| a |\n|---|\n\n## Latency\n\n| b |\n|---|\n\n" + prose + "\n\n* by hand\n",
	} {
		if strings.Count(second, want) != 1 {
			t.Errorf("not there once: %s\n%s", want, second)
		}
	}
	if rows, chapters = nil, nil; renew(second, "2026-01-02") != second {
		t.Errorf("it changes although nothing was measured:\n%s", renew(second, "2026-01-02"))
	}
}
