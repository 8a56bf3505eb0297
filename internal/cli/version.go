package cli

import (
	"flag"
	"runtime"
	"runtime/debug"

	"nidalo/core/parity"
)

var versionCommand = command{name: "version", short: "print the version", most: 0,
	with: func(e *env, f *flag.FlagSet) action {
		jsonFlag(e, f)
		return func(_ []string) error {
			revision := ""
			if b, ok := debug.ReadBuildInfo(); ok {
				for _, s := range b.Settings {
					if s.Key == "vcs.revision" {
						revision = s.Value
					}
				}
			}
			if e.json {
				return e.printJSON(map[string]any{"version": Version, "revision": revision, "go": runtime.Version(),
					"platform": runtime.GOOS + "/" + runtime.GOARCH, "parity_kernels": parity.Kernel()})
			}
			e.out.Printf("nidalo %s (%s, %s/%s, parity kernels: %s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH, parity.Kernel())
			return nil
		}
	},
}
