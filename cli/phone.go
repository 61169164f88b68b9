package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"

	"yardtide/client"
	"yardtide/core/plan"
	"yardtide/core/words"
	"yardtide/wire/phonewire"
)

func phoneCommand() Command {
	return Command{
		Name: "phone", Usage: "list | add NAME | keys NAME | revoke NAME | set NAME | take-back NAME | network", Short: "phones that hand over by " +
			"their browser or an app, and run no program of ours",
		Long: `A phone that hands over opens a page, or has an app that uploads to WebDAV or SFTP. It is a
device of the yard: its pictures lie in an inbox here, follow a rule, and are told to the
phone as safe once they are.

  yardtide phone add toms-phone -person Tom        # prints its page, and what an app needs, once
  yardtide phone keys toms-phone                   # new keys; those before are answered no more
  yardtide phone revoke toms-phone                 # at once; what it handed over goes on
  yardtide phone set toms-phone -most "40 GB" -held 14 -key ~/.ssh/phone.pub
  yardtide phone take-back toms-phone              # what waits in the holding place, into the inbox again
  yardtide phone network -sftp 192.168.1.20:7422   # also listen for SFTP
  yardtide phone network -plain 192.168.1.20:7480  # and without encryption, where a phone takes no other

What is safe goes from the inbox into a holding place, and is removed there after seven days
(-held). Phones come to the address of the home network: yardtide device network ADDRESS.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			person := fs.String("person", "", "add: whose `person` it is")
			rule := fs.String("rule", "", "add: the `rule` that its pictures follow; the usual one without")
			most := fs.String("most", "", "set: how `much` its inbox may take, such as \"20 GB\"; network: all together")
			held := fs.Int("held", -1, "set: `days` in the holding place")
			key := fs.String("key", "", "set: a `file` with SSH public keys, in place of those before")
			plain := fs.String("plain", keepIt, "network: an `address` without encryption; off for none")
			sftp := fs.String("sftp", keepIt, "network: an `address` for SFTP; off for none")
			return func(ctx context.Context, e Env, args []string) error {
				c := r.client(e).Phones()
				verb, args := first(args)
				does := map[string]func() error{
					"list": func() error { return listPhones(ctx, e, c, r.json) },
					"add": func() error {
						return addPhone(ctx, e, c, verb, args, phonewire.PhoneAdd{Person: *person, Rule: *rule}, r.json)
					},
					"keys":      func() error { return addPhone(ctx, e, c, verb, args, phonewire.PhoneAdd{}, r.json) },
					"revoke":    func() error { return revokePhone(ctx, e, c, args) },
					"take-back": func() error { return takeBackPhone(ctx, e, c, args) },
					"set":       func() error { return setPhone(ctx, e, c, args, *most, *held, *key) },
					"network":   func() error { return phoneNetwork(ctx, e, c, *plain, *sftp, *most, r.json) },
				}
				do, known := does[verb]
				if !known {
					return WrongUse("say list, add, keys, revoke, set, take-back or network")
				}
				return do()
			}
		},
	}
}

// keepIt is the value of a flag that leaves what it names as it is.
const keepIt = "as it is"

func listPhones(ctx context.Context, e Env, c client.Phones, json bool) error {
	list, err := c.All(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, list)
	}
	if len(list) == 0 {
		fmt.Fprintln(e.Out, "No phone hands over. Add one: yardtide phone add NAME")
	}
	for _, p := range list {
		of := ""
		if p.Person != "" {
			of = ", " + p.Person + "'s"
		}
		fmt.Fprintf(e.Out, "%s%s: %s\n", p.Name, of, p.Says)
		if !p.Last.IsZero() {
			fmt.Fprintf(e.Out, "  last heard on %s\n", p.Last.Local().Format("Mon 2 Jan 15:04"))
		}
	}
	return nil
}

func addPhone(ctx context.Context, e Env, c client.Phones, verb string, args []string, a phonewire.PhoneAdd, json bool) error {
	var err error
	if a.Name, err = oneName(verb, args); err != nil {
		return err
	}
	if verb == "keys" {
		if err := hasPhone(ctx, c, a.Name); err != nil {
			return err
		}
	}
	k, err := c.Add(ctx, a)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, k)
	}
	fmt.Fprintf(e.Out, "%s hands over from now on. These keys are told once:\n\n", k.Name)
	if k.Page.Address != "" {
		fmt.Fprintf(e.Out, "By its browser: %s\n  %s\n", k.Page.Says, k.Page.Address)
		printQR(e, k.Page.QR)
		fmt.Fprintf(e.Out, "\nBy an app: %s\n  address   %s\n  user      %s\n  password  %s\n", k.WebDAV.Says, k.WebDAV.Address, k.WebDAV.User,
			k.WebDAV.Password)
	}
	if k.SFTP.Address != "" {
		fmt.Fprintf(e.Out, "\nOr: %s\n  host      %s\n  port      %d\n  user      %s\n  password  %s\n  key       %s\n", k.SFTP.Says, k.SFTP.Host,
			k.SFTP.Port, k.SFTP.User, k.SFTP.Password, k.SFTP.Key)
	}
	for _, note := range k.Notes {
		fmt.Fprintf(e.Out, "\n! %s\n", note)
	}
	return nil
}

// hasPhone tells that a phone is there: keys are given to no new one by mistake.
func hasPhone(ctx context.Context, c client.Phones, name string) error {
	list, err := c.All(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, p := range list {
		if p.Name == name {
			return nil
		}
		names = append(names, p.Name)
	}
	if len(names) == 0 {
		return fmt.Errorf("there is no phone %s; add it: yardtide phone add %s", name, name)
	}
	return fmt.Errorf("there is no phone %s; there is %s", name, words.And(names))
}

func revokePhone(ctx context.Context, e Env, c client.Phones, args []string) error {
	name, err := oneName("revoke", args)
	if err != nil {
		return err
	}
	if err := c.Revoke(ctx, name); err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s is answered no more. What it handed over goes on, and its plan stays; new keys: yardtide phone keys %s\n", name, name)
	return nil
}

func takeBackPhone(ctx context.Context, e Env, c client.Phones, args []string) error {
	name, err := oneName("take-back", args)
	if err != nil {
		return err
	}
	back, err := c.TakeBack(ctx, name)
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s came back into the inbox of %s.\n", words.Files(int64(back.N)), name)
	return nil
}

func setPhone(ctx context.Context, e Env, c client.Phones, args []string, most string, held int, key string) error {
	name, err := oneName("set", args)
	if err != nil {
		return err
	}
	var s phonewire.PhoneSet
	if most != "" {
		size, err := plan.ParseSize(most)
		if err != nil {
			return WrongUse("-most: %s", err)
		}
		s.Most = new(int64(size))
	}
	if held >= 0 {
		s.HeldDays = &held
	}
	if key != "" {
		text, err := os.ReadFile(key)
		if err != nil {
			return fmt.Errorf("reading the SSH keys: %w", err)
		}
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
				s.Keys = append(s.Keys, line)
			}
		}
	}
	if s.Most == nil && s.HeldDays == nil && s.Keys == nil {
		return WrongUse("say what to change: -most, -held or -key")
	}
	if err := c.Set(ctx, name, s); err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s is set.\n", name)
	return nil
}

func phoneNetwork(ctx context.Context, e Env, c client.Phones, plain, sftp, most string, json bool) error {
	n, err := c.Network(ctx)
	if err != nil {
		return err
	}
	changed := false
	for _, one := range []struct {
		said string
		is   *string
	}{{plain, &n.Plain}, {sftp, &n.SFTP}} {
		switch one.said {
		case keepIt:
			continue
		case "off":
			*one.is = ""
		default:
			*one.is = one.said
		}
		changed = true
	}
	if most != "" {
		size, err := plan.ParseSize(most)
		if err != nil {
			return WrongUse("-most: %s", err)
		}
		n.Most, changed = int64(size), true
	}
	if changed {
		if n, err = c.SetNetwork(ctx, n); err != nil {
			return err
		}
	}
	if json {
		return asJSON(e.Out, n)
	}
	tell := func(what, address, at, problem string) {
		switch {
		case address == "":
			fmt.Fprintf(e.Out, "%s: off\n", what)
		case problem != "":
			fmt.Fprintf(e.Out, "%s: %s\n", what, problem)
		default:
			fmt.Fprintf(e.Out, "%s: %s\n", what, at)
		}
	}
	tell("without encryption", n.Plain, n.PlainAt, n.PlainProblem)
	tell("SFTP", n.SFTP, n.SFTPAt, n.SFTPProblem)
	fmt.Fprintf(e.Out, "all inboxes together may take %s\n", words.Bytes(n.Most))
	return nil
}
