// Command table reads what `go test -bench` prints and writes it as a table: a figure a row, with the
// bound that it is to keep, where it has one (a unit "x<=1.5"). It ends with 1 when a benchmark failed.
package main

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"text/tabwriter"
)

func main() {
	failed, err := write(os.Stdout, os.Stdin)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
	if failed || err != nil {
		os.Exit(1)
	}
}

func write(out io.Writer, in io.Reader) (failed bool, err error) {
	table := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "what\tfigure\tunit\tbound\t\t")
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		switch {
		case strings.Contains(lines.Text(), "FAIL"):
			failed = true
			fmt.Fprintln(out, lines.Text())
			continue
		case len(fields) < 4 || !strings.HasPrefix(fields[0], "Benchmark"):
			continue
		}
		what := strings.TrimPrefix(fields[0], "Benchmark")
		if i := strings.LastIndex(what, "-"); i > 0 {
			what = what[:i] // how many processors
		}
		for i := 2; i+1 < len(fields); i += 2 {
			figure, err := strconv.ParseFloat(fields[i], 64)
			if err != nil {
				return failed, fmt.Errorf("%q has no figure where one is due: %w", lines.Text(), err)
			}
			unit, most, bounded := strings.Cut(fields[i+1], "<=")
			if unit == "ns/op" {
				continue // the whole benchmark, with what it prepares
			}
			is := ""
			if bounded {
				kept, err := strconv.ParseFloat(most, 64)
				if err != nil {
					return failed, fmt.Errorf("%q has no bound where one is due: %w", lines.Text(), err)
				}
				if is = "kept"; figure > kept {
					is = "missed"
				}
			}
			fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t\n", what, fields[i], unit, most, is)
			what = ""
		}
	}
	if err := lines.Err(); err != nil {
		return failed, fmt.Errorf("reading the benchmarks: %w", err)
	}
	return failed, table.Flush()
}
