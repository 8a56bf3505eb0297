package cli

import (
	"fmt"
	"time"

	"nidalo/core/state"
	"nidalo/internal/control"
)

// follow shows a task until it ends. An interrupted command leaves the task running where a service stays.
func (e *env) follow(c *control.Control, name string, kind state.TaskKind, slot *int) (*control.TaskStatus, error) {
	p := e.err.NewProgress()
	defer p.End()
	for {
		st, err := c.Status(name)
		if err != nil {
			return nil, err
		}
		var found *control.TaskStatus
		for i, t := range st.Arrays[0].Tasks {
			if t.Kind == kind && (slot == nil || t.Slot != nil && *t.Slot == *slot) {
				found = &st.Arrays[0].Tasks[i]
			}
		}
		if found == nil {
			return nil, fmt.Errorf("the %s is not there any more", kind)
		}
		if found.Ended != nil {
			return found, nil
		}
		p.Show(*found)
		time.Sleep(250 * time.Millisecond)
	}
}
