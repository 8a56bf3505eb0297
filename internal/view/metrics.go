package view

import (
	"io"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/common/expfmt"

	"nidalo/core/health"
	"nidalo/core/state"
	"nidalo/internal/control"
)

// Metrics is the state of everything as a collector for monitoring systems.
type Metrics struct {
	// Look asks for the state; it is called at every collection, so nothing that is told is older than that.
	Look func() (*control.Status, error)
	// Health asks for what the disks said of themselves last; nil: it is not told.
	Health func() ([]control.DiskHealth, error)
}

var (
	metricUp        = desc("up", "Whether the state could be had at all.")
	metricCondition = desc("array_condition", "1 for the condition an array has.", "array", "level", "condition")
	metricMargin    = desc("array_margin", "How many further members an array can lose for certain.", "array")
	metricCapacity  = desc("array_capacity_bytes", "Usable capacity.", "array")
	metricUsed      = desc("array_used_bytes", "At most so much of the capacity was ever written.", "array")
	metricVolume    = desc("volume_capacity_bytes", "Usable capacity of a volume of a guarded set.", "array", "volume")
	metricVolUsed   = desc("volume_used_bytes", "At most so much of a volume was ever written.", "array", "volume")
	metricVolLost   = desc("volume_unreadable_bytes", "So much of a volume cannot be read, written or not, since too many disks are lost.", "array", "volume")
	metricMember    = desc("member_condition", "1 for the condition a member has.", "array", "slot", "bay", "model", "serial", "condition")
	metricAsleep    = desc("member_asleep", "1 for a member whose disk sleeps.", "array", "slot", "bay", "model", "serial")
	metricAway      = desc("member_out_of_touch", "1 for a member whose host does not answer, while it still counts.", "array", "slot", "bay", "serial")
	metricHost      = desc("host_loss_survived", "1 where an array whose members are on several hosts survives the loss of one of them now.", "array", "host")
	metricService   = desc("array_in_service", "1 for an array that is in service on this host.", "array")
	metricErrors    = desc("member_errors_total", "Errors of a member since it joined, by kind.", "array", "slot", "serial", "kind")
	metricHeat      = desc("disk_temperature_celsius", "What the disk of a member says of its temperature.", "array", "slot", "serial")
	metricGrade     = desc("disk_grade", "1 for how the disk of a member is judged by what it says of itself.", "array", "slot", "serial", "grade")
	metricBytes     = desc("array_bytes_total", "Bytes since the array was started: of clients, and written to members.", "array", "what")
	metricBlocks    = desc("array_blocks_total", "Blocks of 4 KiB since the array was started.", "array", "what")
	metricTask      = desc("task_progress_ratio", "How far a task is.", "array", "task", "slot", "state")
	metricRate      = desc("task_bytes_per_second", "The rate of a task over the last minute.", "array", "task", "slot")
	metricLeft      = desc("task_seconds_left", "The time left of a task, where it is known.", "array", "task", "slot")
	metricCheck     = desc("check_end_timestamp_seconds", "When the last consistency check ended.", "array")
	metricMismatch  = desc("check_mismatches", "Blocks the last consistency check found wrong.", "array", "result")
)

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("nidalo_"+name, help, labels, nil)
}

// Describe and Collect are the library's.
func (m Metrics) Describe(out chan<- *prometheus.Desc) { prometheus.DescribeByCollect(m, out) }

// Collect tells the state of this moment.
func (m Metrics) Collect(out chan<- prometheus.Metric) {
	to := collector(out)
	st, err := m.Look()
	if err != nil {
		to.gauge(metricUp, 0)
		return
	}
	to.gauge(metricUp, 1)
	if m.Health != nil {
		if told, err := m.Health(); err == nil { // the state could be had all the same
			to.health(told)
		}
	}
	named := map[string]bool{}
	for _, a := range st.Arrays {
		// Two arrays may have one name, one of them from elsewhere: the later one is told apart by its identity.
		if named[a.Name] {
			a.Name += "/" + a.ID
		}
		named[a.Name] = true
		to.array(a)
		for _, mem := range a.Members {
			to.member(a.Name, mem)
		}
		for _, t := range a.Tasks {
			if t.Ended == nil {
				to.task(a.Name, t)
			}
		}
	}
}

// collector takes what is measured.
type collector chan<- prometheus.Metric

func (c collector) gauge(d *prometheus.Desc, v float64, labels ...string) {
	c <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
}

func (c collector) counter(d *prometheus.Desc, v float64, labels ...string) {
	c <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, labels...)
}

func (c collector) health(told []control.DiskHealth) {
	for _, h := range told {
		slot := itoa(h.Slot)
		if t := h.Readings.Temperature; t != nil {
			c.gauge(metricHeat, *t, h.Array, slot, h.Serial)
		}
		for _, g := range []health.Grade{health.Fine, health.Failing, health.Failed} {
			c.gauge(metricGrade, truth(h.Verdict.Grade == g), h.Array, slot, h.Serial, string(g))
		}
	}
}

func (c collector) array(a control.ArrayStatus) {
	for _, is := range []state.Condition{state.Healthy, state.Degraded, state.Exposed, state.Partial, state.Failed} {
		c.gauge(metricCondition, truth(a.Condition == is), a.Name, a.Level, string(is))
	}
	c.gauge(metricService, truth(!a.Out), a.Name)
	for _, h := range a.Hosts {
		c.gauge(metricHost, truth(h.Survived), a.Name, h.Host)
	}
	c.gauge(metricMargin, float64(a.Margin), a.Name)
	c.gauge(metricCapacity, float64(a.Capacity), a.Name)
	c.gauge(metricUsed, float64(a.Used), a.Name)
	for _, v := range a.Volumes {
		c.gauge(metricVolume, float64(v.Size), a.Name, v.Name)
		c.gauge(metricVolUsed, float64(v.Used), a.Name, v.Name)
		c.gauge(metricVolLost, float64(v.Unreadable), a.Name, v.Name)
	}
	for key, what := range map[string]string{"client_read_bytes": "client_read", "client_written_bytes": "client_written", "journal_bytes": "journal", "in_place_bytes": "in_place", "table_bytes": "tables"} {
		c.counter(metricBytes, float64(a.Counters[key]), a.Name, what)
	}
	c.counter(metricBlocks, float64(a.Counters["healed_blocks"]), a.Name, "healed")
	c.counter(metricBlocks, float64(a.Counters["unreadable_blocks"]), a.Name, "unreadable")
	if last := a.LastCheck; last != nil && last.Ended != nil {
		c.gauge(metricCheck, float64(last.Ended.Unix()), a.Name)
		c.gauge(metricMismatch, float64(last.Repaired), a.Name, "repaired")
		c.gauge(metricMismatch, float64(last.Mismatches-last.Repaired), a.Name, "left")
	}
}

func (c collector) member(array string, m control.MemberStatus) {
	slot := itoa(m.Slot)
	for _, is := range []string{"active", "rebuilding", "failing", "failed", "missing"} {
		c.gauge(metricMember, truth(m.Condition == is), array, slot, m.Bay, m.Model, m.Serial, is)
	}
	c.gauge(metricAsleep, truth(m.Sleeps), array, slot, m.Bay, m.Model, m.Serial)
	c.gauge(metricAway, truth(m.Away != nil), array, slot, m.Bay, m.Serial)
	c.counter(metricErrors, float64(m.ReadErrors), array, slot, m.Serial, "read")
	c.counter(metricErrors, float64(m.WriteErrors), array, slot, m.Serial, "write")
	c.counter(metricErrors, float64(m.ChecksumErrors), array, slot, m.Serial, "checksum")
}

func (c collector) task(array string, t control.TaskStatus) {
	slot := ""
	if t.Slot != nil {
		slot = itoa(*t.Slot)
	}
	c.gauge(metricTask, t.Percent/100, array, string(t.Kind), slot, string(t.State))
	c.gauge(metricRate, t.Rate, array, string(t.Kind), slot)
	if t.ETA != nil {
		c.gauge(metricLeft, *t.ETA, array, string(t.Kind), slot)
	}
}

func truth(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// WriteMetrics writes the state in the text format that monitoring systems collect from files.
func WriteMetrics(w io.Writer, m Metrics) error {
	r := prometheus.NewRegistry()
	if err := r.Register(m); err != nil {
		return err
	}
	families, err := r.Gather()
	if err != nil {
		return err
	}
	enc := expfmt.NewEncoder(w, expfmt.NewFormat(expfmt.TypeOpenMetrics))
	for _, f := range families {
		if err := enc.Encode(f); err != nil {
			return err
		}
	}
	if c, ok := enc.(expfmt.Closer); ok {
		return c.Close()
	}
	return nil
}
