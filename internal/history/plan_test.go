package history

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The newest of a long history are found by an index, without sorting what is not asked for.
func TestTheNewestAreFoundByAnIndex(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "a ? # % history.db"))
	require.NoError(t, err)
	defer s.Close()
	for _, f := range []Filter{{Limit: 30}, {Array: "tides", Limit: 30}, {Since: time.Unix(5, 0)}, {Kind: "member"}} {
		for table, column := range map[string]string{"events": "time", "tasks": "ended"} {
			where, args := f.where(column)
			rows, err := s.db.Query("EXPLAIN QUERY PLAN SELECT * FROM "+table+where, args...)
			require.NoError(t, err)
			var plan []string
			for rows.Next() {
				var id, parent, unused int
				var detail string
				require.NoError(t, rows.Scan(&id, &parent, &unused, &detail))
				plan = append(plan, detail)
			}
			require.NoError(t, rows.Err())
			require.NoError(t, rows.Close())
			text := strings.Join(plan, "; ")
			require.Contains(t, text, "USING INDEX", "%+v", f)
			require.NotContains(t, text, "TEMP B-TREE", "%+v: it sorts all there is", f)
		}
	}
}
