package cli

import (
	"context"
	"flag"

	"yardtide/core/words"
)

func burstsCommand() Command {
	return Command{
		Name: "bursts", Usage: "RULE", Short: "the shots in a row among the photos that a rule takes, of which a clip " +
			"could be made",
		Long: `Lists the shots of one camera that were taken within seconds of each other and look
alike, device by device. With bursts: true in the rule (yardtide rule set RULE -bursts
yes) a short clip is made of each, on charge, beside them: an item of its own that is
sent like any other, and never in place of its shots.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			return func(ctx context.Context, e Env, args []string) error {
				if len(args) != 1 {
					return WrongUse("name one rule")
				}
				c := r.client(e)
				found, err := c.Plans().Bursts(ctx, args[0])
				if err != nil {
					return err
				}
				if r.json {
					return asJSON(e.Out, found)
				}
				p := newPage(e, c.URL)
				for _, d := range found {
					p.head(d.Device)
					switch {
					case d.Says != "":
						p.line(2, "%s", plain(d.Says))
					case len(d.Bursts) == 0:
						p.line(2, "none")
					}
					for _, b := range d.Bursts {
						p.line(2, "%s  %d shots, %s: %s to %s, in %s", b.TakenAt.Format("2006-01-02 15:04:05"), b.N, words.Bytes(b.Bytes),
							plain(b.First), plain(b.Last), plain(b.Folder))
					}
					if d.More {
						p.line(2, "and more")
					}
				}
				return nil
			}
		},
	}
}
