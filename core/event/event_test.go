package event

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/state"
)

// TestDocsListTheEvents holds docs/configuration.md and the kinds of event together.
func TestDocsListTheEvents(t *testing.T) {
	docs, err := os.ReadFile("../../docs/configuration.md")
	require.NoError(t, err)
	listed := map[Kind]bool{}
	for _, severity := range Severities {
		_, row, ok := strings.Cut(string(docs), "\n| "+string(severity)+" | ")
		require.True(t, ok, "no row for %s", severity)
		row, _, _ = strings.Cut(row, "\n")
		for _, kind := range regexp.MustCompile("`([a-z-]+)`").FindAllStringSubmatch(row, -1) {
			listed[Kind(kind[1])] = true
			require.Equal(t, severity, Kind(kind[1]).Severity(), kind[1])
		}
	}
	source, err := os.ReadFile("event.go")
	require.NoError(t, err)
	kinds := regexp.MustCompile(`(?m)^\t\w+ +Kind = "([a-z-]+)"`).FindAllStringSubmatch(string(source), -1)
	require.Greater(t, len(kinds), 50)
	for _, kind := range kinds {
		require.True(t, listed[Kind(kind[1])], "docs/configuration.md does not list %s", kind[1])
		delete(listed, Kind(kind[1]))
	}
	require.Empty(t, listed, "docs/configuration.md lists kinds that there are not")
}

func TestTasksThatFailAreWarnings(t *testing.T) {
	require.Equal(t, Kind("surface-test-failed"), OfTask(state.TaskSurface, state.TaskFailed))
	require.Equal(t, Warning, OfTask(state.TaskRebuild, state.TaskFailed).Severity())
	require.Equal(t, Info, OfTask(state.TaskRebuild, Started).Severity())
}
