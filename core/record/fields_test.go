package record

import (
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// row is one line of a table of docs/format.md.
type row struct {
	at, size int
	what     string
}

// rowsUnder reads the lines of the first table behind a text, but those whose numbers are sums.
func rowsUnder(t *testing.T, doc, after string) (out []row) {
	_, doc, found := strings.Cut(doc, after)
	require.True(t, found, after)
	begun := false
	for _, line := range strings.Split(doc, "\n") {
		if !strings.HasPrefix(line, "|") {
			if begun {
				return out
			}
			continue
		}
		begun = true
		if m := regexp.MustCompile(`^\| (\d+) \| (\d+) \| (.*) \|$`).FindStringSubmatch(line); m != nil {
			at, _ := strconv.Atoi(m[1])
			size, _ := strconv.Atoi(m[2])
			out = append(out, row{at, size, m[3]})
		}
	}
	return out
}

func rowsOf[T any](fields []field[T]) (out []row) {
	for _, f := range fields {
		out = append(out, row{f.at, f.size, f.what})
	}
	return out
}

func TestTheDocumentOfTheFormatIsTrue(t *testing.T) {
	raw, err := os.ReadFile("../../docs/format.md")
	require.NoError(t, err)
	fixed := []row{{0, 8, "`NIDALO/m`"}, {8, 4, "checksum of bytes 12 to length"}, {12, 4, "length of the record in bytes, whole blocks"}, {16, 4, "version, " + strconv.Itoa(Version)}}
	require.ElementsMatch(t, append(fixed, rowsOf(headFields)...), rowsUnder(t, string(raw), "## Member record"))
	require.ElementsMatch(t, rowsOf(turnFields), rowsUnder(t, string(raw), "Change of layout:"))
	require.ElementsMatch(t, rowsOf(entryFields), rowsUnder(t, string(raw), "Roster entry:"))
}

func TestFieldsNeverOverlap(t *testing.T) {
	apart(t, rowsOf(headFields), 20, headSize)
	apart(t, rowsOf(entryFields), 0, entrySize)
	apart(t, rowsOf(turnFields), 0, turnSize)
}

func apart(t *testing.T, rows []row, from, to int) {
	used := make([]string, to)
	for _, r := range rows {
		require.GreaterOrEqual(t, r.at, from, r.what)
		for i := r.at; i < r.at+r.size; i++ {
			require.Empty(t, used[i], "%s and %s at byte %d", r.what, used[i], i)
			used[i] = r.what
		}
	}
}
