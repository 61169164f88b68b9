// Command yardtide is the one binary: it picks a command of package cli, or of package run.
package main

import (
	"context"
	"os"

	"yardtide/cli"
	"yardtide/cli/run"
)

func main() {
	os.Exit(cli.Main(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr, run.Here()))
}
