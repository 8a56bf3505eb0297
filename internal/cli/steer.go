package cli

import (
	"flag"
	"fmt"

	"nidalo/core/state"
	"nidalo/internal/control"
)

// steer makes one of pause, continue and cancel.
func steer(name, short string, to state.TaskState, said, more string) command {
	return command{name: name, usage: "NAME [TASK]", short: short, least: 1, most: 2,
		help: more + "\n\nTASK is rebuild, catch-up, retire, check, conversion or emptying; without it all tasks of the array are meant.\n\n  nidalo " + name + " tides\n  nidalo " + name + " tides check",
		with: func(e *env, _ *flag.FlagSet) action {
			return func(args []string) error {
				return e.withControl(func(c *control.Control) error {
					req := control.SteerRequest{Array: args[0], State: to}
					if len(args) == 2 {
						req.Kind = state.TaskKind(args[1])
					}
					waits := false
					if to == state.TaskCancelled && req.Kind == state.TaskConvert {
						if st, err := c.Status(req.Array); err == nil {
							waits = st.Arrays[0].Waiting != nil
						}
					}
					if err := c.Steer(req); err != nil {
						return err
					}
					if waits {
						e.out.Printf("The change of array %s that waited is dropped; what is under way goes on.\n", req.Array)
						e.out.Next([]string{fmt.Sprintf("nidalo cancel %s conversion   has the conversion that is under way go back", req.Array)})
						return nil
					}
					if to == state.TaskCancelled && (req.Kind == "" || req.Kind == state.TaskConvert) {
						if back, err := e.goesBack(c, args[0], req.Kind != ""); back || err != nil {
							return err
						}
					}
					what := "The tasks"
					if req.Kind != "" {
						what = "The " + string(req.Kind)
					}
					e.out.Printf("%s of array %s: %s.\n", what, args[0], said)
					return nil
				})
			}
		}}
}

var (
	pauseCommand    = steer("pause", "hold tasks of an array", state.TaskPaused, "held", "Holds tasks where they are, until continue, or until the service is started again.")
	continueCommand = steer("continue", "let held tasks go on", state.TaskRunning, "going on", "Lets tasks go on that were held with pause.")
	cancelCommand   = steer("cancel", "end a check or a retirement early, or have a conversion go back", state.TaskCancelled, "ending", "Ends a check, or the copying of a member, before it is done. A conversion does not end, but goes back to the layout before.\nThe emptying of a volume ends, and what is not emptied yet stays, with its disk in the set.\nA rebuild cannot be cancelled: redundancy waits for it.")
)

// goesBack says that a conversion was cancelled, alone or with the other tasks of the array; false: none was.
func (e *env) goesBack(c *control.Control, name string, alone bool) (bool, error) {
	st, err := c.Status(name)
	if err != nil {
		return false, err
	}
	if change := st.Arrays[0].Change; !alone && (change == nil || !change.Back && !change.Turns) {
		return false, nil
	}
	others := ""
	if !alone {
		others = " Other tasks end."
	}
	e.out.Printf("The conversion of array %s goes back to the layout before; the array stays in use meanwhile.%s\n", name, others)
	e.out.Next([]string{"nidalo watch   follows it"})
	return true, nil
}
