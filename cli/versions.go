package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yardtide/client"
	"yardtide/wire/planwire"
)

// versions are the parts of plan that tell of its versions.
func versions(ctx context.Context, e Env, r reach, verb string, args []string) error {
	numbers := make([]int64, len(args))
	for i, a := range args {
		n, err := strconv.ParseInt(a, 10, 64)
		if err != nil || n < 0 {
			return WrongUse("%q is not the number of a version; plan history tells them", a)
		}
		numbers[i] = n
	}
	c := r.client(e)
	switch {
	case verb == "history" && len(numbers) == 0:
		return history(ctx, e, c, r.json)
	case verb == "diff" && len(numbers) == 1:
		return diff(ctx, e, c, numbers[0]-1, numbers[0], r.json)
	case verb == "diff" && len(numbers) == 2:
		return diff(ctx, e, c, numbers[0], numbers[1], r.json)
	case verb == "undo" && len(numbers) <= 1:
		return undo(ctx, e, c, numbers)
	}
	return WrongUse("say history, diff and one version or two, or undo and at most one")
}

func history(ctx context.Context, e Env, c client.Client, json bool) error {
	all := []planwire.PlanVersion{}
	for before := int64(0); ; {
		more, err := c.Plans().History(ctx, before)
		if err != nil {
			return err
		}
		all = append(all, more...)
		if len(more) == 0 || more[len(more)-1].Version == 1 {
			break
		}
		before = more[len(more)-1].Version
	}
	if json {
		return asJSON(e.Out, all)
	}
	return paged(e, c.URL, func(p page) error {
		if len(all) == 0 {
			p.line(0, "There is no plan yet.")
		}
		for _, v := range all {
			by := map[planwire.PlanWay]string{planwire.PlanByConsole: "on the page", planwire.PlanByCommand: "by a command",
				planwire.PlanByForm: "by a form", planwire.PlanByUndo: "an earlier one again"}[v.By]
			at := v.At.Local().Format("Mon 2 Jan 2006 15:04")
			if by != "" {
				at += ", " + by
			}
			if v.InForce {
				at += ", " + p.paint(good, "in force")
			}
			p.line(0, "%s  %s", p.paint(strong, fmt.Sprintf("%3d", v.Version)), p.paint(quiet, at))
			for _, says := range v.Says {
				p.line(5, "%s", plain(says))
			}
		}
		return nil
	})
}

func diff(ctx context.Context, e Env, c client.Client, from, to int64, json bool) error {
	d, err := c.Plans().Diff(ctx, from, to)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, d)
	}
	return paged(e, c.URL, func(p page) error {
		for _, says := range d.Says {
			p.line(0, "%s", plain(says))
		}
		if d.Text == "" {
			p.line(0, "Versions %d and %d have the same text.", from, to)
			return nil
		}
		p.space()
		for line := range strings.Lines(d.Text) {
			line = strings.TrimRight(line, "\n")
			t := map[byte]tone{'+': good, '-': asks, '@': quiet}[(line + " ")[0]]
			fmt.Fprintln(p.w, p.paint(t, plain(line)))
		}
		return nil
	})
}

func undo(ctx context.Context, e Env, c client.Client, to []int64) error {
	list, err := c.Plans().History(ctx, 0)
	if err != nil {
		return err
	}
	if len(list) == 0 || len(to) == 0 && list[0].Version == 1 {
		return fmt.Errorf("there is no earlier version of the plan; yardtide plan history tells which there are")
	}
	now := list[0].Version
	if len(to) == 0 {
		to = []int64{now - 1}
	}
	done, err := c.Plans().Undo(ctx, planwire.PlanUndo{To: to[0], Base: now})
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "Version %d is in force again, as version %d.\n", to[0], done.Version)
	list, err = c.Plans().History(ctx, done.Version+1)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(list, func(v planwire.PlanVersion) bool { return v.Version == done.Version }); i >= 0 {
		for _, says := range list[i].Says {
			fmt.Fprintln(e.Out, plain(says))
		}
	}
	return nil
}
