package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"yardtide/client"
	"yardtide/core/onvolume"
	"yardtide/core/plan"
	"yardtide/wire"
	"yardtide/wire/cardwire"
	"yardtide/wire/planwire"
)

func cardCommand() Command {
	return Command{
		Name: "card", Usage: "list | leave CARD | take CARD -rule NAME | copy CARD FOLDER | ask CARD",
		Short: "memory cards, cameras and phones on a cable: what is on them, and what is done with them",
		Long: `list tells which cards are in which device, what is on them, and how much of it the device
has already. Nothing is done with a card before it is answered once, for that card by its
identity, or for every card with any:

  yardtide card list
  yardtide card leave 4F3A-11C2                       # not asked about again
  yardtide card take any -rule everyday -device desk  # each card is a folder of the plan
  yardtide card copy 4F3A-11C2 PICTURES/Cards         # what is new is copied into a folder first
  yardtide card ask any                               # takes the answer back

What is copied goes into a folder for each day; each file is read again and compared before
the card is said to be done. Nothing on a card is changed, moved or removed.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			device := fs.String("device", "", "the `device` that the card is in")
			name := fs.String("name", "", "leave, take, copy: what you call the card")
			rules := fs.String("rule", "", "take: the `rules` that it follows, with commas")
			return func(ctx context.Context, e Env, args []string) error {
				c := r.client(e)
				y, err := c.Status(ctx)
				if err != nil {
					return err
				}
				if len(args) == 1 && args[0] == "list" {
					return listCards(e, c, y, *device, r.json)
				}
				answer, err := cardAnswer(args, *rules)
				if err != nil {
					return err
				}
				if *name != "" && answer != nil {
					answer["name"] = *name
				}
				on, err := cardDevice(y, *device, args[1])
				if err != nil {
					return err
				}
				now, err := c.Plans().InForce(ctx)
				if err != nil {
					return err
				}
				at := []string{"devices", on, "cards", args[1]}
				var edits []plan.Edit
				if partOf(now.Values, at...) != nil || answer == nil { // what was said before goes
					edits = append(edits, plan.Edit{Path: at})
				}
				if answer != nil {
					edits = append(edits, plan.Edit{Path: at, Value: answer})
				}
				return editPlan(ctx, e, c, planwire.PlanEdits{Base: now.Version, Edits: edits}, r.json)
			}
		},
	}
}

// cardAnswer is what is said of a card; nil takes back what was said.
func cardAnswer(args []string, rules string) (map[string]any, error) {
	verb := ""
	if len(args) > 0 {
		verb = args[0]
	}
	switch {
	case verb == "leave" && len(args) == 2:
		return map[string]any{"leave": true}, nil
	case verb == "take" && len(args) == 2 && rules != "":
		return map[string]any{"rules": strings.Split(rules, ",")}, nil
	case verb == "take":
		return nil, WrongUse("say take and a card, and by which rules with -rule")
	case verb == "copy" && len(args) == 3:
		return map[string]any{"copy-to": args[2]}, nil
	case verb == "ask" && len(args) == 2:
		return nil, nil
	}
	return nil, WrongUse("say list, leave CARD, take CARD -rule NAME, copy CARD FOLDER or ask CARD")
}

// cardDevice is the device that a card is in, or that is named.
func cardDevice(y wire.Yard, named, id string) (string, error) {
	if named != "" {
		return named, nil
	}
	var in []string
	for _, d := range y.Devices {
		for _, c := range d.Cards {
			if c.ID == id {
				in = append(in, d.Name)
			}
		}
	}
	switch {
	case len(in) == 1:
		return in[0], nil
	case len(in) == 0 && len(y.Devices) == 1:
		return y.Devices[0].Name, nil
	case len(in) == 0 && id != onvolume.Any:
		return "", fmt.Errorf("no card %q is in a device, and none is named in the plan; yardtide card list tells which are", id)
	}
	return "", WrongUse("name the device with -device")
}

func listCards(e Env, c client.Client, y wire.Yard, device string, json bool) error {
	list := map[string][]cardwire.Card{}
	known := device == ""
	for _, d := range y.Devices {
		if device == "" || d.Name == device {
			known = true
			list[d.Name] = d.Cards
		}
	}
	if !known {
		return fmt.Errorf("there is no device %q", device)
	}
	if json {
		return asJSON(e.Out, list)
	}
	p := newPage(e, c.URL)
	some := false
	for _, d := range y.Devices {
		for _, one := range list[d.Name] {
			some = true
			mark := " "
			if one.State == cardwire.Asks {
				mark = p.paint(asks, "?")
			}
			p.line(0, "%s %s  %s", mark, plain(one.ID), plain(one.Says))
			if one.State == cardwire.Asks {
				p.line(4, "%s", p.paint(quiet, fmt.Sprintf(
					"yardtide card leave %s, or take %[1]s -rule NAME, or copy %[1]s FOLDER", plain(one.ID))))
			}
		}
	}
	if !some {
		p.line(0, "No card, camera or phone on a cable is here.")
	}
	return nil
}
