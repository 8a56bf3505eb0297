// Command nidalo assembles disks into RAID arrays, serves them, and shows what to do when a disk fails.
package main

import (
	"os"

	"nidalo/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
