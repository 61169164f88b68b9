package setup

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"yardtide/core/forecast"
	"yardtide/core/media"
	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// missingFolders tells of folders that went since they were looked at.
func missingFolders(d Device, now *planwire.SetupNow) {
	for i, f := range now.Folders {
		if f.Device != now.Device {
			continue
		}
		if info, err := os.Stat(d.Folder(f.Folder)); err != nil || !info.IsDir() {
			now.Folders[i].Problem = "The folder is not there any more."
		}
	}
}

// tell fills in what a set-up would come to.
func (s *Setup) tell(ctx context.Context, now *planwire.SetupNow) error {
	now.Says, now.Rooms, now.Missing, now.Notes, now.Names, now.Kinds = []string{}, []planwire.SetupRoom{},
		[]planwire.SetupLack{}, []planwire.SetupLack{}, []planwire.SetupName{}, []wire.LookKind{}
	lack := func(step int, format string, args ...any) {
		now.Missing = append(now.Missing, planwire.SetupLack{Step: step, Says: fmt.Sprintf(format, args...)})
	}
	p := plantext.Draft(now.Draft)
	now.Values = plantext.Value(p)
	rule, sources := p.Rules[everyday], 0
	for _, d := range p.Devices {
		sources += len(d.Sources)
	}
	if len(now.Devices) == 0 {
		lack(stepWhose, "No device has joined yet: let one join, or take the pictures of this computer.")
	}
	if strings.TrimSpace(p.Yard) == "" {
		lack(stepSaid, "Give the household a name.")
	}
	if len(now.Places) == 0 {
		lack(stepWhere, "Say where your pictures go: add a place.")
	}
	kinds := map[media.Kind]wire.Amount{}
	for _, f := range now.Folders {
		if !f.On {
			continue
		}
		if f.Problem != "" {
			lack(stepWhat, "%s: %s", f.Path, f.Problem)
		}
		for _, k := range f.Kinds {
			kinds[k.Kind] = kinds[k.Kind].Plus(k.N, k.Bytes)
		}
	}
	if sources == 0 && len(now.Devices) > 0 {
		lack(stepWhat, "Choose a folder.")
	}
	for _, k := range media.Kinds {
		if a := kinds[k]; a.N > 0 {
			now.Kinds = append(now.Kinds, wire.LookKind{Kind: k, Amount: a})
			if slices.Contains(rule.Take, k) {
				now.Takes = now.Takes.Plus(a.N, a.Bytes)
			}
		}
	}
	if len(rule.Take) == 0 {
		lack(stepHow, "Choose a kind.")
	}
	now.Names = names(p, now)
	tellRooms(now, rule, kinds[media.Video])
	if len(now.Missing) > 0 {
		return nil
	}
	return s.tellPlan(ctx, now, p, lack)
}

// tellRooms tells what each place would get, and in which forms.
func tellRooms(now *planwire.SetupNow, rule plan.Rule, clips wire.Amount) {
	pictures, samples := picturesOf(now, rule)
	if !slices.Contains(rule.Take, media.Video) {
		clips = wire.Amount{}
	}
	counting := slices.ContainsFunc(now.Folders, func(f planwire.SetupFolder) bool { return f.On && f.Counting })
	for _, place := range now.Places {
		forms := formsAt(place, now.Takes, pictures, clips, samples, counting)
		takes := now.Takes
		for _, f := range forms {
			if f.Chosen && f.Known {
				takes.Bytes = f.Range.Likely
			}
		}
		room := roomOf(place, takes, rule.Gates.Hours)
		room.Forms, room.Clips = forms, clipsAt(place, clips, samples)
		if place.Clips > 0 && clips.N > 0 && len(samples[clipForm(place.Clips)]) == 0 {
			room.Says += fmt.Sprintf(" Its clips are counted as shot: at %d pixels they take less.", place.Clips)
		}
		now.Rooms = append(now.Rooms, room)
	}
}

// stepOf is the step at which a key of the plan is asked for.
func stepOf(path []string) int {
	switch {
	case len(path) == 0:
		return stepSaid
	case path[0] == "destinations":
		return stepWhere
	case path[0] == "devices":
		return stepWhat
	case len(path) < 3:
		return stepHow
	}
	switch path[2] {
	case "to":
		if len(path) == 3 {
			return stepWhere
		} // else the form at a place
	case "lanes", "gates":
		return stepWhen
	}
	return stepHow
}

// tellPlan tells the plan that a set-up comes to, or what the plan lacks still.
func (s *Setup) tellPlan(ctx context.Context, now *planwire.SetupNow, p *plan.Plan,
	lack func(step int, format string, args ...any)) error {
	text := plantext.Compose(p)
	p, err := plantext.Parse("plan.yaml", []byte(text))
	var problems plantext.Problems
	if errors.As(err, &problems) { // nobody sees the text that has these lines
		for _, p := range problems {
			lack(stepSaid, "%s; %s.", sentenceOf(errors.New(p.What)), p.Would)
		}
		return nil
	}
	if err != nil {
		lack(stepSaid, "%s", err)
		return nil
	}
	now.Text = text
	doubts, err := s.Doubts(ctx, p)
	if err != nil {
		return err
	}
	for _, d := range doubts {
		now.Notes = append(now.Notes, planwire.SetupLack{Step: stepOf(d.At), Says: d.Says})
	}
	rule := p.Rules[everyday]
	for _, d := range now.Devices {
		var folders []string
		takes := wire.Amount{}
		for _, f := range now.Folders {
			if f.Device != d.Name || !f.On {
				continue
			}
			folders = append(folders, f.Path)
			for _, k := range f.Kinds {
				if slices.Contains(rule.Take, k.Kind) {
					takes = takes.Plus(k.N, k.Bytes)
				}
			}
		}
		if len(folders) == 0 {
			now.Says = append(now.Says, fmt.Sprintf("Of %s, nothing yet: its folders are added later.", d.Name))
			continue
		}
		now.Says = append(now.Says, fmt.Sprintf("Of %s, %s: %s, %s.", d.Name, words.And(folders),
			words.Things(takes.N, rule.Take...), words.Bytes(takes.Bytes)))
	}
	now.Says = append(now.Says, words.Rule(rule))
	if names := now.Names; len(names) > 0 {
		now.Says = append(now.Says, fmt.Sprintf("%s lands there as %s.", names[0].From, names[0].To))
	}
	return nil
}

// picturesOf are the pictures that would be taken up and may be made smaller, and what came of a few of them.
func picturesOf(now *planwire.SetupNow, rule plan.Rule) (all wire.Amount, samples map[string][]forecast.Sample) {
	samples = map[string][]forecast.Sample{}
	for _, k := range now.Kinds {
		if (k.Kind == media.Photo || k.Kind == media.Graphic) && slices.Contains(rule.Take, k.Kind) {
			all = all.Plus(k.N, k.Bytes)
		}
	}
	for _, f := range now.Folders {
		for name, some := range f.Samples {
			if f.On {
				samples[name] = append(samples[name], some...)
			}
		}
	}
	return all, samples
}

// formsAt tells what each form of pictures would come to at a place, of all that would be taken up, with the clips in
// the form that they have there.
func formsAt(p planwire.SetupPlace, takes, pictures, clips wire.Amount, samples map[string][]forecast.Sample, counting bool) []planwire.SetupForm {
	fits := func(most int64) bool { return p.Free < 0 || most <= p.Free }
	as, rest := clipsTo(p.Clips, clips, samples), takes.Bytes-pictures.Bytes-clips.Bytes
	list := []planwire.SetupForm{}
	for _, name := range append([]string{""}, formOrder...) {
		is, known := forecast.Total(pictures.Bytes, pictures.N, samples[name])
		if name == "" || pictures.N == 0 && !counting {
			is, known = exactly(pictures.Bytes), true
		}
		one := planwire.SetupForm{Form: name, LongEdge: forms[name].LongEdge, Chosen: p.Form == name, Known: known,
			Says: fmt.Sprintf("Pictures at %d px at most: it is not known yet what that comes to.", forms[name].LongEdge)}
		if known {
			one.Range = is.Plus(as).Plus(exactly(rest))
			one.Fits = fits(one.Range.High)
			one.Says = fmt.Sprintf("Pictures at %d px at most: %s, %s.", one.LongEdge, words.Between(one.Range), fitting(p, one.Fits))
			if name == "" {
				one.Says = fmt.Sprintf("As shot: %s, %s.", words.Between(one.Range), fitting(p, one.Fits))
			}
		}
		list = append(list, one)
	}
	return list
}

func exactly(bytes int64) forecast.Range {
	return forecast.Range{Low: bytes, Likely: bytes, High: bytes}
}

// clipsTo is what clips come to at a height, 0 as shot. Without a sample that is anything up to as shot.
func clipsTo(height int, clips wire.Amount, samples map[string][]forecast.Sample) forecast.Range {
	if height == 0 {
		return exactly(clips.Bytes)
	}
	is, known := forecast.Total(clips.Bytes, clips.N, samples[clipForm(height)])
	if !known {
		return forecast.Range{Likely: clips.Bytes, High: clips.Bytes}
	}
	is.High = min(is.High, clips.Bytes) // else they go as shot
	return is
}

// clipsAt tells in which forms clips may go to a place.
func clipsAt(p planwire.SetupPlace, clips wire.Amount, samples map[string][]forecast.Sample) []planwire.SetupClips {
	list := []planwire.SetupClips{}
	for _, height := range heights {
		one := planwire.SetupClips{Height: height, Chosen: p.Clips == height,
			Says: fmt.Sprintf("Clips as shot: %s.", words.Bytes(clips.Bytes))}
		switch {
		case height > 0 && len(samples[clipForm(height)]) > 0:
			one.Says = fmt.Sprintf("Clips at %d px on the shorter edge at most: %s.", height,
				words.Between(clipsTo(height, clips, samples)))
		case height > 0:
			one.Says = fmt.Sprintf("Clips at %d px on the shorter edge at most: less than %s; how much less depends on them.",
				height, words.Bytes(clips.Bytes))
		}
		if clips.N > 0 {
			list = append(list, one)
		}
	}
	return list
}

// fitting tells whether something fits at a place.
func fitting(p planwire.SetupPlace, fits bool) string {
	switch {
	case p.Free < 0:
		return "and " + p.Name + " does not tell its room"
	case fits:
		return "which fits in the " + words.Bytes(p.Free) + " that are free"
	}
	return "which does not fit in the " + words.Bytes(p.Free) + " that are free"
}

// roomOf tells what a place would get, whether it fits, and how long it takes.
func roomOf(p planwire.SetupPlace, takes wire.Amount, hours plan.Hours) planwire.SetupRoom {
	r := planwire.SetupRoom{Name: p.Name, Free: p.Free, Fits: p.Free < 0 || takes.Bytes <= p.Free}
	switch {
	case p.Free < 0:
		r.Says = fmt.Sprintf("%s does not tell how much room it has; %s go there.", p.Name, words.Bytes(takes.Bytes))
	case r.Fits:
		r.Says = fmt.Sprintf("%s go to %s, which then has %s left.", words.Bytes(takes.Bytes), p.Name,
			words.Bytes(p.Free-takes.Bytes))
	default:
		r.Says = fmt.Sprintf("%s do not fit at %s, which has %s free: %s too much.", words.Bytes(takes.Bytes), p.Name,
			words.Bytes(p.Free), words.Bytes(takes.Bytes-p.Free))
	}
	if p.Rate <= 0 || takes.Bytes == 0 {
		return r
	}
	r.Seconds = max(1, takes.Bytes/p.Rate)
	if open := minutesOpen(hours); open < dayMinutes { // so many hours a day
		r.Seconds = r.Seconds * dayMinutes / max(1, open)
	}
	r.Says += fmt.Sprintf(" At the speed that the test saw, %s a second, that takes about %s.", words.Bytes(p.Rate),
		about(time.Duration(r.Seconds)*time.Second))
	return r
}

const dayMinutes = 24 * 60

// minutesOpen is how many minutes of a day lie in some windows, as a mean of a week.
func minutesOpen(hours plan.Hours) (n int64) {
	if len(hours) == 0 {
		return dayMinutes
	}
	monday := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	for minute := range 7 * dayMinutes {
		if hours.At(monday.Add(time.Duration(minute) * time.Minute)) {
			n++
		}
	}
	return n / 7
}

// about is a time span of a rough size.
func about(d time.Duration) string {
	switch {
	case d < 2*time.Second:
		return "a second"
	case d < 2*time.Minute:
		return fmt.Sprintf("%d seconds", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// names tells where the items of a set-up would land.
func names(p *plan.Plan, now *planwire.SetupNow) []planwire.SetupName {
	var own []naming.Sample
	for _, f := range now.Folders {
		for _, p := range f.Pictures {
			if f.On {
				own = append(own, naming.Sample{Item: naming.Item{Name: path.Base(p.Path), Device: f.Device, Source: f.Folder,
					Folder: path.Dir(p.Path), Kind: p.Kind, TakenAt: p.TakenAt}, Undated: p.TakenFrom == string(media.FromFile)})
			}
		}
	}
	layout := plan.DefaultLayout
	for _, d := range p.Destinations { // they all have one
		layout = d.Layout
	}
	list := []planwire.SetupName{}
	for _, l := range naming.Examples(layout, now.Device, own) {
		list = append(list, planwire.SetupName(l))
	}
	return list
}

func sentenceOf(err error) string {
	says := strings.TrimSuffix(err.Error(), ".")
	if says == "" {
		return says
	}
	return strings.ToUpper(says[:1]) + says[1:]
}

// ZoneName is the name of this machine's time zone, UTC when it has none.
func ZoneName() string {
	name := time.Local.String()
	if link, err := os.Readlink("/etc/localtime"); err == nil {
		if _, zone, found := strings.Cut(link, "zoneinfo/"); found {
			name = zone
		}
	}
	if _, err := time.LoadLocation(name); err != nil || name == "Local" {
		return "UTC"
	}
	return name
}
