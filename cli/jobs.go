package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"
	"time"

	"yardtide/client"
	"yardtide/wire"
)

func jobsCommand() Command {
	return Command{
		Name: "jobs", Usage: "[stop N]", Short: "long work that was started: how far it is, and stop it",
		Long: `Trials of a storage, looks at a folder, listing what was there before, and proofs that are taken
again go on when the command or the page that started them is closed. This lists
those that run, and those that ended lately with what came of them. stop ends one.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			return func(ctx context.Context, e Env, args []string) error {
				c := r.client(e)
				switch {
				case len(args) == 0:
					return listJobs(ctx, e, c, r.json)
				case args[0] != "stop" || len(args) != 2:
					return WrongUse("say nothing, or stop and the number of a job")
				}
				if err := c.Jobs().Stop(ctx, args[1]); err != nil {
					return err
				}
				j, err := c.Jobs().Follow(ctx, wire.Job{ID: args[1], State: wire.JobRunning}, func(wire.Job) bool { return false })
				if err != nil {
					return err
				}
				fmt.Fprintf(e.Out, "%s: %s\n", called(j), plain(j.Says))
				return nil
			}
		},
	}
}

func listJobs(ctx context.Context, e Env, c client.Client, json bool) error {
	jobs, err := c.Jobs().List(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, jobs)
	}
	if len(jobs) == 0 {
		fmt.Fprintln(e.Out, "No job runs, and none ended lately.")
	}
	for _, j := range jobs {
		at := "since " + when(j.Began, time.Now())
		if j.State != wire.JobRunning {
			at = when(j.Ended, time.Now())
		}
		fmt.Fprintf(e.Out, "%3s  %-8s %s, %s\n     %s\n", j.ID, j.State, called(j), at, plain(j.Says))
	}
	return nil
}

// called is what a job is called in a sentence.
func called(j wire.Job) string {
	at := j.Destination
	switch j.Kind {
	case wire.JobTrial:
		return "Trial of " + at
	case wire.JobLook:
		if j.Look != nil {
			return "Look at " + j.Look.Path
		}
		return "Look at a folder"
	case wire.JobRoom:
		return "Room"
	case wire.JobBringBack:
		return "Bringing back"
	case wire.JobAdoption:
		return "Listing of what was at " + at
	}
	if at == "" {
		return "Proofs taken again"
	}
	return "Proofs taken again at " + at
}

// follow waits for a job and shows how far it is, until it ends or show says that it
// is enough. Ctrl-C leaves it going on: ended is false then.
func follow(ctx context.Context, e Env, c client.Client, j wire.Job,
	show func(wire.Job) bool) (last wire.Job, ended bool, err error) {
	last, err = c.Jobs().Follow(ctx, j, show)
	switch {
	case errors.Is(err, context.Canceled):
		fmt.Fprintf(e.Err, "%s goes on by itself: yardtide jobs tells how far it is, yardtide jobs stop %s stops it.\n",
			called(j), j.ID)
		return last, false, nil
	case err != nil:
		return last, false, err
	case last.State == wire.JobFailed || last.State == wire.JobStopped:
		return last, true, fmt.Errorf("%s: %s", called(last), strings.TrimSuffix(last.Says, "."))
	}
	return last, true, nil
}

// finishJob waits for a job to end, and prints what came of it: said are the sentences that go beside.
func finishJob(ctx context.Context, e Env, c client.Client, j wire.Job, json bool, said func(wire.Job) []string) error {
	last, ended, err := follow(ctx, e, c, j, func(wire.Job) bool { return false })
	if !ended {
		return err
	}
	if json {
		return errors.Join(asJSON(e.Out, last), err)
	}
	for _, says := range said(last) {
		fmt.Fprintln(e.Err, plain(says))
	}
	if err == nil {
		fmt.Fprintln(e.Out, last.Says)
	}
	return err
}

// followTrial waits for a trial, and shows it step by step unless it is to be quiet.
func followTrial(ctx context.Context, e Env, c client.Client, j wire.Job, quiet bool) (wire.Trial, bool, error) {
	shown := 0
	show := func(j wire.Job) bool {
		if j.Trial != nil && !quiet {
			for ; shown < len(j.Trial.Steps); shown++ {
				printStep(e.Out, j.Trial.Steps[shown])
			}
		}
		return false
	}
	last, ended, err := follow(ctx, e, c, j, show)
	if err != nil || !ended {
		return wire.Trial{}, ended, err
	}
	show(last)
	return *last.Trial, true, nil
}
