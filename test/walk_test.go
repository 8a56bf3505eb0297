package test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The architecture names the files and functions that a write, a read, a replacement and a change of layout pass. Each must be there, in one of the files that
// the walk has named, and a write must not pass more than 25 functions in 8 files, a healthy read not more than 12.
func TestTheWalksOfTheArchitectureAreTrue(t *testing.T) {
	raw, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	walks := regexp.MustCompile(`(?s)## (The path of a [a-z ]+)\n(.*?)\n## `).FindAllStringSubmatch(strings.ReplaceAll(string(raw), "\n## ", "\n## \n## "), -1)
	require.Len(t, walks, 4)
	engine := regexp.MustCompile(`^(core|internal)/.*\.go$`)
	for _, w := range walks {
		name, text := w[1], w[2]
		files, functions := map[string]map[string]bool{}, map[string]bool{}
		most := map[string]int{"The path of a write": 25, "The path of a read from a healthy array": 12}[name]
		fast, _, _ := strings.Cut(text, "That is the commit")
		fast, _, _ = strings.Cut(fast, "Only when something is missing")
		for _, word := range regexp.MustCompile("`[^`]+`").FindAllString(text, -1) {
			word = strings.Trim(word, "`")
			switch {
			case engine.MatchString(word):
				files[word] = functionsOf(t, word)
			case strings.Contains(word, "/") || strings.Contains(word, "."):
			default:
				functions[word] = strings.Contains(fast, "`"+word+"`")
				found := false
				for _, has := range files {
					found = found || has[word]
				}
				require.True(t, found, "%s: %s is in none of the files named so far", name, word)
			}
		}
		count := 0
		for _, on := range functions {
			if on {
				count++
			}
		}
		if most > 0 {
			require.LessOrEqual(t, count, most, "%s: functions", name)
			maps.DeleteFunc(files, func(name string, _ map[string]bool) bool { return strings.HasPrefix(name, "core/") }) // they are read by themselves
			require.LessOrEqual(t, len(files), 8, "%s: files", name)
		}
	}
}

func functionsOf(t *testing.T, file string) map[string]bool {
	parsed, err := parser.ParseFile(token.NewFileSet(), filepath.Join("..", file), nil, 0)
	require.NoError(t, err)
	out := map[string]bool{}
	for _, d := range parsed.Decls {
		if f, ok := d.(*ast.FuncDecl); ok {
			out[f.Name.Name] = true
		}
	}
	return out
}
