package cli

import (
	"cmp"
	"fmt"
	"slices"

	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/say"
	"nidalo/internal/control"
)

// swap says what replacing one member, or all that are smaller than a size, takes and gives.
func (o *planOptions) swap(e *env, a plan.Assumptions, args []string) error {
	if len(args) > 0 && o.replace != "" || len(args) > 1 {
		return usageError{"-replace and -grow take one disk or one array"}
	}
	var size int64
	if o.with != "" {
		var err error
		if size, err = say.ParseSize(o.with); err != nil {
			return usageError{"-with: " + err.Error()}
		}
	}
	if o.grow != "" && size == 0 {
		return usageError{"-grow needs -with SIZE: how large the new disks are"}
	}
	return e.withControl(func(c *control.Control) error {
		var err error
		if o.replace, err = e.diskName(c, o.replace); err != nil {
			return err
		}
		st, err := c.Status("")
		if err != nil {
			return err
		}
		for _, r := range st.Arrays {
			if r.Out || len(r.Members) == 0 {
				continue
			}
			if slots := o.exchanged(r, size); len(slots) > 0 {
				return o.showSwap(e, a, r, slots, size)
			}
			if o.grow == r.Name {
				return &control.Error{What: fmt.Sprintf("no member of array %q is smaller than %s", r.Name, say.Size(size))}
			}
		}
		if o.grow != "" {
			return &control.Error{What: fmt.Sprintf("there is no array %q in service", o.grow), Hints: []string{"nidalo status   lists the arrays"}}
		}
		return &control.Error{What: fmt.Sprintf("no array in service has a member %q", o.replace), Hints: []string{"nidalo status   lists the members by bay and serial"}}
	})
}

// exchanged lists the slots of an array that get a new disk.
func (o *planOptions) exchanged(r control.ArrayStatus, size int64) (slots []int) {
	for _, m := range r.Members {
		if o.replace != "" && slices.Contains([]string{m.Bay, m.Serial, m.Path}, o.replace) || o.replace == "" && o.grow == r.Name && m.Size < size {
			slots = append(slots, m.Slot)
		}
	}
	return slots
}

func (o *planOptions) showSwap(e *env, a plan.Assumptions, r control.ArrayStatus, slots []int, size int64) error {
	var sizes []int64
	for _, m := range r.Members {
		sizes = append(sizes, m.Size)
	}
	a.Used = float64(r.Used) / float64(max(r.Capacity, 1))
	groups := r.Groups
	if groups == 1 {
		groups = 0 // levels that have no groups to choose
	}
	s, err := plan.SwapFor(layout.Level(r.Level), r.Strip, groups, sizes, len(r.Layers) > 0, slots, cmp.Or(size, sizes[slots[0]]), a)
	if err != nil {
		return &control.Error{What: fmt.Sprintf("array %q: %v", r.Name, err)}
	}
	if e.json {
		return e.printJSON(map[string]any{"array": r.Name, "slots": slots, "swap": s, "assumptions": a})
	}
	e.out.Swap(r, slots, s, a)
	return nil
}
