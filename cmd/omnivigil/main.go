// Omnivigil supervises the long-running processes of a development project.
package main

import (
	"os"

	"omnivigil/internal/face/cli"
)

func main() { os.Exit(cli.Main()) }
