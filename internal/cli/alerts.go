package cli

import (
	"flag"

	"nidalo/internal/control"
)

var alertsCommand = command{name: "alerts", usage: "-test", short: "test whether alerts arrive", most: 0,
	help: `
The file nidalo.toml sets where alerts go: to e-mail, HTTP addresses and commands, each from a severity on. -test sends a message
through every one of them now, and reports the result of each. Exit status 1 when one failed.

  [[alerts.email]]
  server = "mail.saltmarsh.example:587"
  user = "storage"
  password_file = "/etc/nidalo/mail.secret"
  from = "storage@saltmarsh.example"
  to = ["duty@saltmarsh.example"]
  least = "warning"

  [[alerts.webhook]]
  url = "https://bells.saltmarsh.example/storage"

  [[alerts.command]]
  run = ["/usr/local/bin/ring", "storage"]
  least = "critical"

  nidalo alerts -test
  nidalo alerts -test -json`,
	with: func(e *env, f *flag.FlagSet) action {
		var test bool
		f.BoolVar(&test, "test", false, "send a test message")
		jsonFlag(e, f)
		return func(_ []string) error {
			if !test {
				return usageError{"-test sends a test message; there is nothing else to do here"}
			}
			return e.withControl(func(c *control.Control) error {
				results, err := c.TestAlerts()
				if err != nil {
					return err
				}
				for _, r := range results {
					if r.Error != "" {
						e.status = Could
					}
				}
				if e.json {
					return e.printJSON(map[string]any{"channels": results})
				}
				if len(results) == 0 {
					e.out.Printf("No alerts are configured: no message goes out when a disk fails.\n")
					e.out.Next([]string{"nidalo help alerts   shows what to write into nidalo.toml"})
				}
				for _, r := range results {
					if r.Error != "" {
						e.out.Printf("%s: failed: %s\n", r.Channel, r.Error)
					} else {
						e.out.Printf("%s: delivered\n", r.Channel)
					}
				}
				return nil
			})
		}
	},
}
