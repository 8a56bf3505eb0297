package cli

var demoCommand = command{name: "demo", usage: "[-keep]", short: "watch the main job done on made-up data", most: 0,
	run: func(e *env, _ []string) error { return nil },
}
