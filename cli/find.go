package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"yardtide/core/media"
	"yardtide/core/words"
	"yardtide/wire/findwire"
)

// question is what is asked for among all that is known, as flags.
type question struct{ values url.Values }

func (q *question) flags(fs *flag.FlagSet) {
	q.values = url.Values{}
	for _, one := range [][2]string{{"device", "only of this `device`, also of one that is gone"}, {"person", "only of this `person`'s devices"},
		{"folder", "only in this `folder` of a device, and below it"}, {"kind", "only this `kind`: photo, raw, graphic, video, audio, document or other"},
		{"camera", "only by this `camera`"}, {"at", "only what is safe at this `destination`"}, {"rated", "only with so many `stars`, or more"},
		{"from", "from this `day` on, such as 2026-05-31, by the clock where it was taken"}, {"to", "until this `day`"},
		{"where", "`here` or gone: whether it is still on its device"}, {"set", "only of this `set`"},
		{"spot", "taken in this `part` of the map: south,west,north,east in degrees"}} {
		fs.Func(one[0], one[1], func(value string) error { q.values.Set(one[0], value); return nil })
	}
	for _, one := range [][2]string{{"marked", "only what is marked"}, {"hidden", "only what is hidden"}} {
		fs.BoolFunc(one[0], one[1], func(value string) error { q.values.Set(one[0], value); return nil })
	}
}

// of is the question with the words of the arguments.
func (q *question) of(args []string) (url.Values, error) {
	if len(args) > 0 {
		q.values.Set("text", strings.Join(args, " "))
	}
	if err := oneOf("kind", q.values.Get("kind"), media.Kinds); err != nil {
		return nil, err
	}
	return q.values, oneOf("where", q.values.Get("where"), []string{"here", "gone"})
}

// inBody is a question as the body of a call has it.
func inBody(q url.Values) map[string]string {
	said := make(map[string]string, len(q))
	for name := range q {
		said[name] = q.Get(name)
	}
	return said
}

func findCommand() Command {
	return Command{
		Name: "find", Usage: "[flags] [WORD ...]", Short: "find pictures and clips among all that are known, at whichever place",
		Long: `Finds pictures, clips and files among all that the yard knows, newest first: those on
devices, and those that are at a place alone, also of devices that are gone. Each word
is in a name, caption, keyword, note, folder or camera. With -months it tells how many
there are in each month instead.

  yardtide find tide
  yardtide find -person Ines -from 2026-05-01 -to 2026-05-31
  yardtide find -where gone -at shed -kind video`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			var q question
			r.flags(fs, true)
			q.flags(fs)
			most := fs.Int("n", 50, "how `many` at the most, 0 for all")
			months := fs.Bool("months", false, "tell how many there are, month by month")
			return func(ctx context.Context, e Env, args []string) error {
				asked, err := q.of(args)
				if err != nil {
					return err
				}
				if *most < 0 {
					return WrongUse("-n cannot be negative")
				}
				if *months {
					return findMonths(ctx, e, r, asked)
				}
				return findItems(ctx, e, r, asked, *most)
			}
		},
	}
}

func findMonths(ctx context.Context, e Env, r reach, asked url.Values) error {
	f, err := r.client(e).Library().Find(ctx, asked)
	if err != nil {
		return err
	}
	if r.json {
		return asJSON(e.Out, f)
	}
	for _, m := range f.Months {
		fmt.Fprintf(e.Out, "%04d-%02d %8s\n", m.Year, m.Month, words.Count(int64(m.N)))
	}
	fmt.Fprintln(e.Out, foundSays(f))
	return nil
}

func foundSays(f findwire.Found) string {
	var kinds []media.Kind
	for _, k := range f.Kinds {
		kinds = append(kinds, media.Kind(k.Name))
	}
	says := words.Things(int64(f.N), kinds...) + ", " + words.Bytes(f.Bytes)
	if f.N == f.Of {
		return says + " in all."
	}
	return says + ", of " + words.Count(int64(f.Of)) + " that are known."
}

// findAtOnce is how many items are asked for at a time.
const findAtOnce = 500

func findItems(ctx context.Context, e Env, r reach, asked url.Values, most int) error {
	c := r.client(e).Library()
	items, n := []findwire.FoundItem{}, 1
	for len(items) < n && (most == 0 || len(items) < most) {
		limit := findAtOnce
		if most > 0 {
			limit = min(limit, most-len(items))
		}
		list, err := c.List(ctx, asked, len(items), limit)
		if err != nil {
			return err
		}
		if n = list.N; len(list.Items) == 0 {
			break
		}
		items = append(items, list.Items...)
	}
	if r.json {
		return asJSON(e.Out, items)
	}
	return paged(e, r.client(e).URL, func(p page) error {
		if n == 0 {
			p.line(0, "nothing")
		}
		for _, it := range items {
			p.line(0, "%s %8s  %s  %s  %s", p.paint(tones[it.State], fmt.Sprintf("%-9s", it.State)), bytes(it.Bytes),
				it.TakenAt.Format("2006-01-02 15:04"), p.item(it.Device, it.Key, p.paint(strong, plain(it.Device+":"+it.Path))),
				p.paint(quiet, plain(foundReason(it))))
		}
		if len(items) < n {
			p.line(0, "and %s more: -n 0 lists all", words.Count(int64(n-len(items))))
		}
		return nil
	})
}

// foundReason is where an item lies, and what people wrote to it, in a line.
func foundReason(it findwire.FoundItem) string {
	var says []string
	if len(it.At) > 0 {
		says = append(says, "at "+words.And(it.At))
	}
	if it.Gone {
		says = append(says, "gone from its device")
	}
	if it.Rating > 0 {
		says = append(says, "rated "+strconv.Itoa(it.Rating))
	}
	if it.Caption != "" {
		says = append(says, `"`+it.Caption+`"`)
	}
	return strings.Join(says, "; ")
}
