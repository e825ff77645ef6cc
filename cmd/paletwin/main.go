// Command paletwin compares an exported record snapshot with its edited copy
// and carries the approved changes out, with a way back. See README.md.
package main

import (
	"os"

	"paletwin/internal/cli"
)

func main() { os.Exit(cli.Main()) }
