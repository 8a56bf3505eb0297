package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const monitoring = "../packaging/monitoring"

// metricNames are the names of all metrics that the program tells, as it declares them.
func metricNames(t *testing.T) map[string]bool {
	t.Helper()
	source, err := os.ReadFile("../internal/view/metrics.go")
	require.NoError(t, err)
	names := map[string]bool{}
	for _, m := range regexp.MustCompile(`desc\("([a-z_]+)"`).FindAllStringSubmatch(string(source), -1) {
		names["nidalo_"+m[1]] = true
	}
	require.Greater(t, len(names), 20)
	return names
}

func TestAlertsAndDashboardAreAboutWhatIsTold(t *testing.T) {
	if _, err := exec.LookPath("promtool"); err != nil {
		t.Skip("needs promtool; make tools installs it")
	}
	known := metricNames(t)
	read := func(name string) string {
		buf, err := os.ReadFile(filepath.Join(monitoring, name))
		require.NoError(t, err)
		for _, metric := range regexp.MustCompile(`\bnidalo_[a-z_]+`).FindAllString(string(buf), -1) {
			require.True(t, known[metric], "%s names %s, which nobody tells", name, metric)
		}
		return string(buf)
	}
	rules, tests := read("rules.yml"), read("rules_test.yml")
	for _, args := range [][]string{{"check", "rules", "rules.yml"}, {"test", "rules", "rules_test.yml"}} {
		c := exec.Command("promtool", args...)
		c.Dir = monitoring
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	for _, alert := range regexp.MustCompile(`alert: (\w+)`).FindAllStringSubmatch(rules, -1) {
		require.Contains(t, tests, `alertname="`+alert[1]+`"`, "each alert has a test")
	}

	var dashboard struct {
		Panels []struct {
			ID      int
			Title   string
			Targets []struct{ Expr string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(read("dashboard.json")), &dashboard))
	require.NotEmpty(t, dashboard.Panels)
	seen := map[int]bool{}
	for _, p := range dashboard.Panels {
		require.False(t, seen[p.ID], "two panels have the number %d", p.ID)
		seen[p.ID] = true
		require.NotEmpty(t, p.Targets, p.Title)
		for _, q := range p.Targets {
			require.Regexp(t, `nidalo_[a-z_]+`, q.Expr, p.Title)
		}
	}
}

func TestExampleRoutesRingForWhatCannotWait(t *testing.T) {
	if _, err := exec.LookPath("amtool"); err != nil {
		t.Skip("needs amtool; make tools installs it")
	}
	run := func(args ...string) string {
		c := exec.Command("amtool", args...)
		c.Dir = monitoring
		out, err := c.Output()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	run("check-config", "routes.yml")
	buf, err := os.ReadFile(filepath.Join(monitoring, "rules.yml"))
	require.NoError(t, err)
	n := map[string]int{}
	for _, m := range regexp.MustCompile(`(?s)alert: (\w+).*?severity: (\w+)`).FindAllStringSubmatch(string(buf), -1) {
		want := map[string]string{"critical": "duty"}[m[2]]
		if want == "" {
			want = "storage"
		}
		require.Equal(t, want, run("config", "routes", "test", "--config.file=routes.yml", "alertname="+m[1], "severity="+m[2]), m[1])
		n[want]++
	}
	require.True(t, n["duty"] > 2 && n["storage"] > 2, "%v", n)
}
