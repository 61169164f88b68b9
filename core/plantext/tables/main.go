// Command tables writes the tables of the plan's keys into a document, between the lines
// that say so: go run ./core/plantext/tables docs/plan.md
package main

import (
	"fmt"
	"os"
	"strings"

	"yardtide/core/plantext"
)

const begin, end = "<!-- The tables are made from the code: make types. -->\n", "<!-- The end of the tables. -->\n"

func main() {
	if err := write(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "tables:", err)
		os.Exit(1)
	}
}

func write(args []string) error {
	if len(args) != 1 {
		return fmt.Errorf("name one document")
	}
	text, err := os.ReadFile(args[0])
	if err != nil {
		return err
	}
	before, rest, found := strings.Cut(string(text), begin)
	_, after, ended := strings.Cut(rest, end)
	if !found || !ended {
		return fmt.Errorf("%s has no lines between which the tables stand", args[0])
	}
	return os.WriteFile(args[0], []byte(before+begin+"\n"+plantext.Tables()+"\n"+end+after), 0o644)
}
