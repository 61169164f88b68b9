// Package cli holds the commands. Each command is one value with its help on
// top; help is made from the values. They talk to a service through client/.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"unicode/utf16"

	"golang.org/x/term"

	"yardtide/client"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/wire/planwire"
)

// Command is one command: its help, its flags and what it does.
type Command struct {
	Name  string
	Usage string // what follows the name
	Short string // one line
	Long  string
	// Setup declares the flags and returns what runs with them.
	Setup func(*flag.FlagSet) func(ctx context.Context, e Env, args []string) error
}

// Env is where a command reads and writes.
type Env struct {
	In       io.Reader
	Out, Err io.Writer // printers
	getenv   func(string) string
	terminal *os.File // that Out prints to, if it is a file
}

// Here is what the program does on this machine without asking a service: package run has it.
type Here struct {
	// Commands stand behind those that ask a service.
	Commands []Command
	// Device declares the flags of further verbs of the command device, and returns what they do.
	Device func(*flag.FlagSet) map[string]func(ctx context.Context, e Env, args []string) error
	// MakePicture makes of a picture what a form makes of it, and writes that to a new file, if one is named.
	MakePicture func(ctx context.Context, picture string, form plan.Rendition, to string) (MadePicture, error)
	// Prepare sets what the system does not tell a program of its terminal.
	Prepare func()
}

// MadePicture is a picture as shot and as a form makes it. Why tells why it goes as shot, "" where it does not.
type MadePicture struct {
	Kind         media.Kind
	AsShot, Made planwire.FormSize
	Why          string
}

func commands(here Here) []Command {
	return append([]Command{
		statusCommand(), queueCommand(), whyCommand(), findCommand(), bringBackCommand(), roomCommand(), markCommand(), watchCommand(),
		pauseCommand(), resumeCommand(), sendNowCommand(), retryCommand(), finishCommand(),
		destinationCommand(), proveCommand(), jobsCommand(), planCommand(), lookCommand(), straysCommand(), cardCommand(), sourceCommand(),
		ruleCommand(),
		renditionCommand(),
		tryCommand(here.MakePicture), burstsCommand(), deviceCommand(here.Device), phoneCommand(), linkCommand(),
	}, here.Commands...)
}

// misuse is an error of WrongUse.
type misuse struct{ says string }

func (m misuse) Error() string { return m.says }

// WrongUse is an error of how a command was called: it exits with 2.
func WrongUse(format string, args ...any) error { return misuse{fmt.Sprintf(format, args...)} }

// Main runs a command and returns the exit code: 0 done, 1 failed, 2 used
// wrongly.
func Main(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer, here Here) int {
	here.Prepare()
	all := commands(here)
	terminal, _ := out.(*os.File)
	e := Env{in, printer{out, isTerminal(out)}, printer{errOut, isTerminal(errOut)}, os.Getenv, terminal}
	errOut = e.Err
	if len(args) == 0 {
		overview(errOut, all)
		return 2
	}
	name, args := args[0], args[1:]
	if name == "help" || name == "-h" || name == "-help" || name == "--help" {
		return help(e, all, args)
	}
	c, ok := named(all, name)
	if !ok {
		fmt.Fprintf(errOut, "yardtide: there is no command %q; yardtide help lists them\n", name)
		return 2
	}
	fs := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	run := c.Setup(fs)
	args, err := parse(fs, args)
	if errors.Is(err, flag.ErrHelp) {
		return help(e, all, []string{name})
	}
	if err == nil {
		err = run(ctx, e, args)
	} else {
		err = misuse{err.Error()}
	}
	var bad misuse
	var problems plantext.Problems
	switch {
	case err == nil:
		return 0
	case errors.As(err, &problems): // each line begins with its place, for editors
		fmt.Fprintln(errOut, problems)
		return 1
	case errors.As(err, &bad):
		fmt.Fprintf(errOut, "yardtide %s: %s\nusage: yardtide %s %s\n", c.Name, bad.says, c.Name, c.Usage)
		return 2
	case errors.Is(err, context.Canceled):
		return 0
	}
	fmt.Fprintf(errOut, "yardtide %s: %s\n", c.Name, plainLines(err.Error()))
	return 1
}

// parse takes flags before and after arguments alike.
func parse(fs *flag.FlagSet, args []string) (rest []string, err error) {
	for {
		if err := fs.Parse(args); err != nil {
			return nil, err
		}
		args = fs.Args()
		if len(args) == 0 {
			return rest, nil
		}
		rest, args = append(rest, args[0]), args[1:]
	}
}

func named(all []Command, name string) (Command, bool) {
	i := slices.IndexFunc(all, func(c Command) bool { return c.Name == name })
	if i < 0 {
		return Command{}, false
	}
	return all[i], true
}

func help(e Env, all []Command, args []string) int {
	if len(args) == 0 {
		overview(e.Out, all)
		return 0
	}
	c, ok := named(all, args[0])
	if !ok {
		fmt.Fprintf(e.Err, "yardtide: there is no command %q; yardtide help lists them\n", args[0])
		return 2
	}
	fmt.Fprintf(e.Out, "usage: yardtide %s %s\n\n%s\n\n%s\n", c.Name, c.Usage, c.Short, strings.TrimSpace(c.Long))
	fs := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	c.Setup(fs)
	var flags strings.Builder
	fs.SetOutput(&flags)
	fs.PrintDefaults()
	if flags.Len() > 0 {
		fmt.Fprintf(e.Out, "\nflags:\n%s", flags.String())
	}
	return 0
}

func overview(w io.Writer, all []Command) {
	fmt.Fprint(w, "Yard Tide takes what is in chosen folders to storage, by your rules,\nand shows what is safe, "+
		"what waits, and why.\n\nusage: yardtide COMMAND [flags]\n\n")
	for _, c := range all {
		fmt.Fprintf(w, "  %-11s %s\n", c.Name, c.Short)
	}
	fmt.Fprint(w, "\nyardtide help COMMAND tells more. Commands that ask a service find it by\n-url and -token, or "+
		"YARDTIDE_URL and YARDTIDE_TOKEN. Exit codes: 0 done,\n1 failed, 2 used wrongly.\n")
}

// reach are the flags of commands that ask a service.
type reach struct {
	url, token string
	json       bool
}

const defaultURL = "http://127.0.0.1:7400"

func (r *reach) flags(fs *flag.FlagSet, reads bool) {
	fs.StringVar(&r.url, "url", "", "the service's `address` (default $YARDTIDE_URL or "+defaultURL+")")
	fs.StringVar(&r.token, "token", "", "the service's `token` (default $YARDTIDE_TOKEN)")
	if reads {
		fs.BoolVar(&r.json, "json", false, "print JSON")
	}
}

func (r *reach) client(e Env) client.Client {
	or := func(values ...string) string {
		for _, v := range values {
			if v != "" {
				return v
			}
		}
		return ""
	}
	return client.Client{URL: or(r.url, e.getenv("YARDTIDE_URL"), defaultURL),
		Token: strings.TrimSpace(or(r.token, e.getenv("YARDTIDE_TOKEN")))}
}

// asJSON prints what the API answered.
func asJSON(w io.Writer, v any) error { return writeJSON(w, v, "  ") }

// writeJSON writes a value with what a printer lets through: other characters are escaped, which
// means the same (RFC 8259, 7).
func writeJSON(w io.Writer, v any, indent string) error {
	var b strings.Builder
	enc := json.NewEncoder(&b)
	enc.SetIndent("", indent)
	if err := enc.Encode(v); err != nil {
		return fmt.Errorf("writing JSON: %w", err)
	}
	var out strings.Builder
	for _, r := range b.String() {
		switch {
		case r < 0x80 || shows(r):
			out.WriteRune(r)
		case r > 0xffff:
			one, two := utf16.EncodeRune(r)
			fmt.Fprintf(&out, "\\u%04x\\u%04x", one, two)
		default:
			fmt.Fprintf(&out, "\\u%04x", r)
		}
	}
	if _, err := io.WriteString(w, out.String()); err != nil {
		return fmt.Errorf("writing JSON: %w", err)
	}
	return nil
}

// NoArguments refuses words that a command has no use for.
func NoArguments(args []string) error {
	if len(args) > 0 {
		return WrongUse("%q is one word too many", args[0])
	}
	return nil
}

func isTerminal(w io.Writer) bool {
	f, isFile := w.(*os.File)
	return isFile && term.IsTerminal(int(f.Fd()))
}
