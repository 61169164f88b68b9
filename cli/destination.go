package cli

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	"yardtide/client"
	"yardtide/core/plan"
	"yardtide/core/words"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// draftFlags describe a destination that is being set up.
type draftFlags struct {
	d              plan.Destination
	kind           string
	password, key  string
	passwordIn     bool
	keepFree, size string
	trust          string
	makeFolder     bool
}

func (f *draftFlags) flags(fs *flag.FlagSet) {
	fs.StringVar(&f.kind, "kind", "", "what it is: `folder`, webdav, sftp or s3")
	fs.StringVar(&f.d.URL, "address", "", "where it is: a web `address` (webdav, s3) or host:port (sftp)")
	fs.StringVar(&f.d.Path, "path", "", "the `folder` there (folder, sftp), or what names begin with (s3)")
	fs.StringVar(&f.d.Bucket, "bucket", "", "s3: the `bucket`")
	fs.StringVar(&f.d.Region, "region", "", "s3: the `region`, if the storage has several")
	fs.StringVar(&f.d.User, "user", "", "the `name` to sign in with; s3: the access key")
	fs.BoolVar(&f.passwordIn, "password-stdin", false,
		"read the password (s3: the secret key) from the standard input's first line; it is kept encrypted")
	fs.StringVar(&f.password, "password-from", "",
		"where the password is kept instead: env:`NAME` or file:/path, read by the service")
	fs.StringVar(&f.key, "key-file", "", "sftp: a private key's `file`; it is kept encrypted")
	fs.StringVar(&f.d.Authority, "authority", "", "a PEM `file` with a certificate authority of your own")
	fs.StringVar(&f.trust, "trust", "", "trust the certificate or host key with this `fingerprint` without asking")
	fs.StringVar(&f.d.Layout, "layout", "", "where items land, such as `{year}/{month}/{name}`")
	fs.StringVar(&f.keepFree, "keep-free", "", "room that is never filled, such as `20GB`")
	fs.StringVar(&f.size, "size", "", "how much it holds, for storage that does not tell, such as `2TB`")
	fs.BoolVar(&f.makeFolder, "make", false, "make the folder if it is not there")
}

// draft makes of the flags what the service is asked with.
func (f *draftFlags) draft(name string, in *bufio.Reader) (wire.Draft, error) {
	d := f.d
	d.Kind = plan.DestinationKind(f.kind)
	if !slices.Contains([]plan.DestinationKind{plan.Folder, plan.WebDAV, plan.SFTP, plan.S3}, d.Kind) {
		return wire.Draft{}, WrongUse("-kind is folder, webdav, sftp or s3, and not %q", f.kind)
	}
	if d.Kind == plan.SFTP {
		d.Address, d.URL = d.URL, ""
	}
	for _, s := range []struct {
		flag, text string
		into       *plan.Size
	}{{"keep-free", f.keepFree, &d.KeepFree}, {"size", f.size, &d.Size}} {
		if s.text == "" {
			continue
		}
		n, err := plan.ParseSize(s.text)
		if err != nil {
			return wire.Draft{}, WrongUse("-%s: %s", s.flag, err)
		}
		*s.into = n
	}
	draft := wire.Draft{Name: name, Destination: d, MakeFolder: f.makeFolder}
	if f.password != "" {
		draft.Destination.PasswordFrom = plan.Secret(f.password)
	}
	given, err := f.secrets(in)
	draft.Password, draft.Key = given.Password, given.Key
	return draft, err
}

// secrets reads what the flags say of a password or a key.
func (f *draftFlags) secrets(in *bufio.Reader) (given wire.Secrets, err error) {
	if f.passwordIn {
		line, err := in.ReadString('\n')
		if err != nil && err != io.EOF || strings.TrimRight(line, "\r\n") == "" {
			return given, fmt.Errorf("reading the password: the standard input has no line; give it as in: yardtide " +
				"destination add … -password-stdin < FILE")
		}
		given.Password = strings.TrimRight(line, "\r\n")
	}
	if f.key != "" {
		key, err := os.ReadFile(f.key)
		if err != nil {
			return given, fmt.Errorf("reading the key: %w", err)
		}
		given.Key = string(key)
	}
	return given, nil
}

func destinationCommand() Command {
	return Command{
		Name: "destination", Usage: "list | show NAME | offers NAME | test NAME | add NAME -kind KIND … | browse [FOLDER] -kind " +
			"KIND … | secret NAME | place NAME moved|new | layout NAME LAYOUT [-try] | remove NAME | adopt NAME",
		Short: "set up, test and look at the storages",
		Long: `list and show tell of the storages in the plan. offers tells what would help where
the room at one runs out: smaller forms, another place, less, each in figures. add tries one, step by step,
and puts it into the plan if all went well; a certificate or host key that is
not known is shown, and asked about unless -trust names it. Passwords and keys
are kept encrypted. browse lists a folder of a storage that is being set up;
with -make it makes it first. test tries one of the plan; it leaves nothing
behind. secret keeps a password or key anew, as when the storage's address
changed. place answers what a name that has come to stand for another place
asks: the content was moved there, and is proven again, or the place is new, and
everything is sent there. layout says where items land from now on, and shows it with
your own; nothing that is there is moved. remove takes one out of the plan; what is stored there stays. adopt
lists what was there before, so that it is not sent again.

  yardtide destination add loft -kind folder -path /media/loft
  yardtide destination add locker -kind webdav -address https://locker.example/dav/ -user me -password-stdin
  yardtide destination add shed -kind sftp -address shed.example:22 -user me -key-file ~/.ssh/id_ed25519 -path yard -make
  yardtide destination add bucket -kind s3 -address https://s3.example -bucket yard -user KEY -password-stdin`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			var f draftFlags
			f.flags(fs)
			try := fs.Bool("try", false, "layout: only show it")
			return func(ctx context.Context, e Env, args []string) error {
				if len(args) == 0 {
					return WrongUse("say list, show, offers, test, add, browse, secret, place, remove or adopt")
				}
				return doDestination(ctx, e, args[0], args[1:], r.client(e), f, *try, r.json)
			}
		},
	}
}

// doDestination does what a verb of the command says.
func doDestination(ctx context.Context, e Env, verb string, args []string, c client.Client, f draftFlags, try,
	json bool) error {
	in := bufio.NewReader(e.In)
	switch {
	case verb == "list":
		if err := NoArguments(args); err != nil {
			return err
		}
		return listDestinations(ctx, e, c, json)
	case verb == "browse" && len(args) <= 1:
		return browse(ctx, e, c, f, in, path.Join(args...), json)
	case verb == "place":
		if len(args) != 2 || args[1] != "moved" && args[1] != "new" {
			return WrongUse("name one destination, and say moved or new")
		}
		return settlePlace(ctx, e, c, args[0], args[1])
	case verb == "layout":
		if len(args) != 2 {
			return WrongUse("name one destination and its layout, such as \"{year}/{month}/{name}\"")
		}
		return editLayout(ctx, e, c, planwire.LayoutAsked{Destination: args[0], Layout: args[1]}, try, json)
	case len(args) != 1:
		return WrongUse("name one destination")
	}
	switch name := args[0]; verb {
	case "show":
		return showDestination(ctx, e, c, name, json)
	case "offers":
		return listOffers(ctx, e, c, name, json)
	case "test":
		return testDestination(ctx, e, c, name, json)
	case "add":
		return addDestination(ctx, e, c, name, f, in)
	case "secret":
		return setSecret(ctx, e, c, name, f, in)
	case "remove":
		return removeDestination(ctx, e, c, name)
	case "adopt":
		return adopt(ctx, e, c, name, json)
	}
	return WrongUse("there is no %q; say list, show, offers, test, add, browse, secret, place, remove or adopt", verb)
}

func listOffers(ctx context.Context, e Env, c client.Client, name string, json bool) error {
	list, err := c.Destinations().Offers(ctx, name)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, list)
	}
	p := newPage(e, c.URL)
	for _, o := range list {
		mark := p.paint(asks, "!")
		if o.Fits {
			mark = "+"
		}
		p.line(0, "%s %s", mark, plain(o.Says))
	}
	p.line(0, "Nothing is changed. On the page Now each can be put in force; here yardtide rule set does it.")
	return nil
}

func testDestination(ctx context.Context, e Env, c client.Client, name string, json bool) error {
	j, err := c.Destinations().Test(ctx, name)
	if err != nil {
		return err
	}
	t, ended, err := followTrial(ctx, e, c, j, json)
	if err != nil || !ended {
		return err
	}
	return tried(e, t, json)
}

func removeDestination(ctx context.Context, e Env, c client.Client, name string) error {
	if err := c.Destinations().Remove(ctx, name); err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s is no longer in the plan. What is stored there stays.\n", name)
	return nil
}

// editLayout changes where items land at a destination, or only shows it.
func editLayout(ctx context.Context, e Env, c client.Client, asked planwire.LayoutAsked, try, json bool) error {
	names, err := c.Plans().Landings(ctx, asked)
	if err != nil {
		return err
	}
	done, err := c.Plans().Edit(ctx, planwire.PlanEdits{Edits: []plan.Edit{{Path: []string{"destinations",
		asked.Destination, "layout"}, Value: asked.Layout}}, Try: try})
	if err != nil {
		return err
	}
	done.Notes, done.Tried = []string{}, nil // what goes where is as before
	if json {
		return asJSON(e.Out, map[string]any{"names": names, "edited": done})
	}
	p := newPage(e, c.URL)
	wide := 0
	for _, n := range names {
		wide = max(wide, len([]rune(n.From)))
	}
	for _, n := range names {
		p.line(2, "%-*s  %s", wide, plain(n.From), p.paint(strong, plain(n.To)))
		if n.What != "" {
			p.line(4, "%s", p.paint(quiet, plain(n.What)))
		}
	}
	p.line(0, "It counts for what is sent from now on; nothing that is there is moved.")
	return edited(e, done, false)
}

func listDestinations(ctx context.Context, e Env, c client.Client, json bool) error {
	y, err := c.Status(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, y.Destinations)
	}
	if len(y.Destinations) == 0 {
		fmt.Fprintln(e.Out, "There is no destination yet. Add one: yardtide help destination")
	}
	for _, d := range y.Destinations {
		fmt.Fprintf(e.Out, "%-16s %-7s %s\n%16s %s\n", d.Name, d.Kind, plain(d.Where), "", room(d))
		printTroubles(e.Out, fmt.Sprintf("%17s", ""), d)
	}
	return nil
}

func showDestination(ctx context.Context, e Env, c client.Client, name string, json bool) error {
	d, err := c.Destinations().Detail(ctx, name)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, d)
	}
	fmt.Fprintf(e.Out, "%s (%s, %s)\n  %s\n", name, d.Status.Kind, plain(d.Status.Where), room(d.Status))
	if len(d.Rules) > 0 {
		fmt.Fprintf(e.Out, "  rules that send there: %s\n", strings.Join(d.Rules, ", "))
	} else {
		fmt.Fprintln(e.Out, "  no rule sends there yet: name it under \"to\" of a rule (yardtide plan apply)")
	}
	if from := d.Destination.PasswordFrom; from != "" {
		fmt.Fprintf(e.Out, "  password: %s\n", from)
	}
	if from := d.Destination.KeyFrom; from != "" {
		fmt.Fprintf(e.Out, "  key: %s\n", from)
	}
	for _, s := range d.Status.There {
		fmt.Fprintf(e.Out, "  there:    %-14s %-5s %-12s %6d, %s\n", s.Device, s.Kind, s.Rule, s.N, bytes(s.Bytes))
	}
	for _, s := range d.Status.Coming {
		fmt.Fprintf(e.Out, "  to come:  %-14s %-5s %-12s %6d, %s\n", s.Device, s.Kind, s.Rule, s.N, bytes(s.Bytes))
	}
	printTroubles(e.Out, "  ", d.Status)
	return nil
}

func printStep(out io.Writer, s wire.TrialStep) {
	mark := "ok"
	if !s.OK {
		mark = "no"
	}
	fmt.Fprintf(out, "  %-2s  %-13s %s\n", mark, s.Name, plain(s.Says))
	if s.Todo != "" {
		fmt.Fprintf(out, "      %-13s %s\n", "", s.Todo)
	}
}

// tried ends a trial that was shown; one that failed is an error.
func tried(e Env, t wire.Trial, json bool) error {
	if json {
		if err := asJSON(e.Out, t); err != nil {
			return err
		}
	}
	if !t.OK {
		return fmt.Errorf("it does not work yet: the step marked \"no\" tells why")
	}
	return nil
}

func addDestination(ctx context.Context, e Env, c client.Client, name string, f draftFlags, in *bufio.Reader) error {
	draft, err := f.draft(name, in)
	if err != nil {
		return err
	}
	if y, err := c.Status(ctx); err != nil {
		return err
	} else if slices.ContainsFunc(y.Destinations, func(d wire.DestinationStatus) bool { return d.Name == name }) {
		return fmt.Errorf("the plan has a destination %q already; take another name, or remove that one first", name)
	}
	for {
		t, ended, err := try(ctx, e, c, draft)
		if err != nil || !ended {
			return err
		}
		if t.Asks == nil {
			if err := tried(e, t, false); err != nil {
				return fmt.Errorf("%s was not added: %w", name, err)
			}
			break
		}
		q := t.Asks
		if f.trust != q.Fingerprint {
			if f.trust != "" {
				return fmt.Errorf("%s was not added: it shows %s, which is not the fingerprint after -trust", name, q.Fingerprint)
			}
			fmt.Fprintf(e.Out, "%s\n\n  %s\n\nTrust it? (yes or no) ", plain(q.Says), q.Fingerprint)
			line, _ := in.ReadString('\n') // no answer is no
			if strings.TrimSpace(strings.ToLower(line)) != "yes" {
				return fmt.Errorf("%s was not added: its fingerprint is not trusted; -trust %s trusts it", name, q.Fingerprint)
			}
		}
		if q.Field == "host-key" {
			draft.Destination.HostKey = q.Fingerprint
		} else {
			draft.Destination.Certificate = q.Fingerprint
		}
	}
	d, err := c.Destinations().Add(ctx, draft)
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s is in the plan.", name)
	if len(d.Rules) == 0 {
		fmt.Fprint(e.Out, " No rule sends there yet: name it under \"to\" of a rule (yardtide plan show, yardtide plan "+
			"apply FILE).")
	}
	fmt.Fprintln(e.Out)
	return nil
}

// try tries a draft; its steps are shown unless it asks something first.
func try(ctx context.Context, e Env, c client.Client, draft wire.Draft) (wire.Trial, bool, error) {
	j, err := c.Destinations().Try(ctx, draft)
	if err != nil {
		return wire.Trial{}, false, err
	}
	t, ended, err := followTrial(ctx, e, c, j, true)
	if err == nil && ended && t.Asks == nil {
		for _, s := range t.Steps {
			printStep(e.Out, s)
		}
	}
	return t, ended, err
}

func settlePlace(ctx context.Context, e Env, c client.Client, name, is string) error {
	n, err := c.Destinations().SettlePlace(ctx, name, wire.PlaceAnswer{Is: is})
	if err != nil {
		return err
	}
	if is == "moved" {
		fmt.Fprintf(e.Out, "What was at the old place of %s is proven again here, %s; what is missing is sent.\n", name,
			words.Things(n.N))
		return nil
	}
	fmt.Fprintf(e.Out, "%s stands for a new place: %s go there. What is at the old one stays there.\n", name,
		words.Things(n.N))
	return nil
}

func setSecret(ctx context.Context, e Env, c client.Client, name string, f draftFlags, in *bufio.Reader) error {
	given, err := f.secrets(in)
	if err != nil {
		return err
	}
	if given == (wire.Secrets{}) {
		return WrongUse("say -password-stdin, or -key-file and which")
	}
	if err := c.Destinations().SetSecret(ctx, name, given); err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "It is kept, encrypted. %s is tried with it at once.\n", name)
	return nil
}

func browse(ctx context.Context, e Env, c client.Client, f draftFlags, in *bufio.Reader, folder string,
	json bool) error {
	make := f.makeFolder
	f.makeFolder = false
	draft, err := f.draft("", in)
	if err != nil {
		return err
	}
	if draft.Destination.Kind == plan.SFTP && draft.Destination.HostKey == "" {
		if f.trust == "" {
			return WrongUse("name the host key's fingerprint with -trust; destination add shows it")
		}
		draft.Destination.HostKey = f.trust
	} else if f.trust != "" {
		draft.Destination.Certificate = f.trust
	}
	l, err := c.Destinations().Browse(ctx, wire.Browse{Draft: draft, Folder: folder, Make: make})
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, l)
	}
	if len(l.Entries) == 0 {
		fmt.Fprintln(e.Out, "Nothing lies there.")
	}
	for _, one := range l.Entries {
		if one.Folder {
			fmt.Fprintf(e.Out, "%s/\n", plain(one.Name))
			continue
		}
		fmt.Fprintf(e.Out, "%s  %s\n", plain(one.Name), bytes(one.Size))
	}
	return nil
}

func adopt(ctx context.Context, e Env, c client.Client, name string, json bool) error {
	j, err := c.Destinations().Adopt(ctx, name)
	if err != nil {
		return err
	}
	j, ended, err := follow(ctx, e, c, j, func(wire.Job) bool { return false })
	if err != nil || !ended {
		return err
	}
	if json {
		return asJSON(e.Out, j.Adopted)
	}
	fmt.Fprintln(e.Out, plain(j.Says))
	return nil
}
