package test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// floors is the rooms from the ground up: a room may use those below it and none beside or above it.
var floors = [][]string{
	{"nidalo/core/state", "nidalo/core/content"},
	{"nidalo/core/parity", "nidalo/core/layout", "nidalo/core/say", "nidalo/core/event", "nidalo/core/rounds", "nidalo/core/fence"},
	{"nidalo/core/record", "nidalo/core/health", "nidalo/internal/clock", "nidalo/internal/wholefile"},
	{"nidalo/core/plan", "nidalo/core/advice", "nidalo/core/exchange"},
	{"nidalo/internal/env", "nidalo/internal/probe", "nidalo/internal/survey"},
	{"nidalo/internal/disk"},
	{"nidalo/internal/array/buffer", "nidalo/internal/passage"},
	{"nidalo/internal/array/dirty", "nidalo/internal/array/member"},
	{"nidalo/internal/array/table", "nidalo/internal/array/roster"},
	{"nidalo/internal/array/journal"},
	{"nidalo/internal/array/stripe"},
	{"nidalo/internal/array/task", "nidalo/internal/array/rescue", "nidalo/internal/array/replay", "nidalo/internal/array/rig"},
	{"nidalo/internal/lab", "nidalo/internal/partition", "nidalo/internal/nbd", "nidalo/internal/array", "nidalo/internal/history", "nidalo/internal/alert", "nidalo/internal/carryover", "nidalo/internal/ownership", "nidalo/internal/traces"},
	{"nidalo/internal/control", "nidalo/internal/remote"},
	{"nidalo/internal/fleet"},
	{"nidalo/internal/keeper", "nidalo/internal/view"},
	{"nidalo/internal/service/chronicle", "nidalo/internal/service/queue"},
	{"nidalo/internal/service/attach", "nidalo/internal/service/vet", "nidalo/internal/service/rescue", "nidalo/internal/service/disks", "nidalo/internal/service/lend"},
	{"nidalo/internal/service", "nidalo/internal/crash"},
	{"nidalo/internal/cli"},
	{"nidalo/cmd/nidalo"},
	{"nidalo/test", "nidalo/test/vm", "nidalo/test/vm/agent"},
}

func TestDependenciesPointDown(t *testing.T) {
	floor := map[string]int{}
	for i, rooms := range floors {
		for _, r := range rooms {
			floor[r] = i
		}
	}
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "nidalo/...").Output()
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		words := strings.Fields(line)
		mine, ok := floor[words[0]]
		require.True(t, ok, "%s has no floor: give it one in this test", words[0])
		for _, imported := range words[1:] {
			if strings.HasPrefix(imported, "nidalo/") {
				require.Less(t, floor[imported], mine, "%s uses %s", words[0], imported)
			}
			if strings.HasPrefix(words[0], "nidalo/core/") {
				require.False(t, slices.Contains([]string{"os", "net", "time.Now", "net/http", "log/slog", "flag"}, imported), "%s is pure and uses %s", words[0], imported)
			}
		}
	}
}

// mostLines is how long a function may be, tests aside.
const mostLines = 60

func TestFunctionsAreShort(t *testing.T) {
	files := token.NewFileSet()
	for _, root := range []string{"core", "internal", "cmd"} {
		require.NoError(t, filepath.WalkDir(filepath.Join("..", root), func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(files, path, nil, 0)
			require.NoError(t, err)
			for _, decl := range file.Decls {
				if f, ok := decl.(*ast.FuncDecl); ok {
					lines := files.Position(f.End()).Line - files.Position(f.Pos()).Line + 1
					require.LessOrEqual(t, lines, mostLines, "%s: %s", path, f.Name.Name)
				}
			}
			return nil
		}))
	}
}
