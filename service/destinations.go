package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/destination"
	"yardtide/engine/fleet"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/service/jobs"
	"yardtide/service/planbook"
	"yardtide/service/setup"
	"yardtide/service/vault"
	"yardtide/wire"
)

// ErrNoDestination tells that the plan has no destination of a name.
var ErrNoDestination = errors.New("the plan has no such destination")

// InUse tells that rules still send to a destination.
type InUse struct {
	Name  string
	Rules []string
}

func (e InUse) Error() string {
	return fmt.Sprintf("%s is still what %s to; change or remove the rule first (yardtide plan apply)", e.Name,
		map[bool]string{true: "the rule " + e.Rules[0] + " sends", false: "the rules " + strings.Join(e.Rules, ", ") +
			" send"}[len(e.Rules) == 1])
}

// Destinations are those of the plan, and drafts of others: what is asked of them, tried and kept.
// Their errors are ErrNoDestination, InUse, place.NoQuestion, plantext.Problems, plantext.EditError,
// vault.Refused and destination.Error.
type Destinations struct {
	book    *planbook.Book
	drivers *drivers
	fleet   *fleet.Fleet
	jobs    *jobs.Jobs
	devices func() []Device
}

// Add puts a destination into the plan and keeps its secrets. It
// does not try it: Try does that. Without a plan yet it writes the first one
// around it. The error is plantext.Problems or plantext.EditError when it cannot stand
// in the plan.
func (s *Destinations) Add(ctx context.Context, draft wire.Draft) error {
	draft = vault.WithSecrets(draft)
	d := draft.Destination
	if err := plantext.CheckDestination(draft.Name, d); err != nil {
		return err
	}
	_, err := s.book.Edit(ctx, 0, func(text string) (string, error) {
		after, err := s.withDestination(text, draft.Name, d)
		if err != nil {
			return "", err
		}
		return after, s.keepSecrets(draft)
	})
	return err
}

func (s *Destinations) withDestination(text, name string, d plan.Destination) (string, error) {
	if text != "" {
		return plantext.Set(text, plan.Edit{Path: []string{"destinations", name}, Value: plantext.DestinationValue(d),
			New: true})
	}
	if len(s.devices()) == 0 {
		return "", plantext.EditError{Says: "there is no plan and no device here to write one for"}
	}
	return plantext.First("Home", setup.ZoneName(), s.devices()[0].DeviceName(), "Pictures", name, d), nil
}

// Remove takes a destination out of the plan and forgets its kept
// secrets. What is stored there stays.
func (s *Destinations) Remove(ctx context.Context, name string) error {
	_, err := s.book.Edit(ctx, 0, func(text string) (string, error) {
		p := s.book.PlanOrEmpty()
		if _, there := p.Destinations[name]; !there {
			return "", ErrNoDestination
		}
		if rules := rulesTo(p, name); len(rules) > 0 {
			return "", InUse{name, rules}
		}
		return plantext.Set(text, plan.Edit{Path: []string{"destinations", name}})
	})
	if err != nil {
		return err
	}
	return s.drivers.secrets.Remove(name)
}

func rulesTo(p *plan.Plan, name string) []string {
	rules := []string{}
	for rule, r := range p.Rules {
		if slices.Contains(r.To, name) {
			rules = append(rules, rule)
		}
	}
	slices.Sort(rules)
	return rules
}

// Detail tells all of one destination.
func (s *Destinations) Detail(ctx context.Context, name string) (wire.DestinationDetail, error) {
	p := s.book.PlanOrEmpty()
	d, there := p.Destinations[name]
	if !there {
		return wire.DestinationDetail{}, ErrNoDestination
	}
	status, err := s.status(ctx, name, d)
	return wire.DestinationDetail{Destination: d, Status: status, Rules: rulesTo(p, name)}, err
}

// status tells what is at a destination, what is still to come, and
// whether that fits.
func (s *Destinations) status(ctx context.Context, name string, d plan.Destination) (wire.DestinationStatus, error) {
	st := wire.DestinationStatus{Name: name, Kind: d.Kind, Where: d.Where(), Layout: d.Layout, KeepFree: int64(d.KeepFree)}
	s.drivers.refresh(name)
	st.Space = wire.Space(s.fleet.SpaceNow(name))
	for _, one := range s.devices() {
		if says, todo := one.Told.PlaceProblem(name); says != "" && !st.Asks {
			st.Problem, st.Todo, st.Asks = says, todo, todo != ""
		} else if says, todo := one.Told.Trouble(name); says != "" && st.Problem == "" {
			st.Problem, st.Todo = says, todo
		}
	}
	var err error
	if st.There, st.Coming, err = s.fleet.Shares(ctx, name); err != nil &&
		!records.IsGone(err) { // the device tells of that
		return st, err
	}
	for _, share := range st.There {
		st.Held = st.Held.Plus(share.N, share.Bytes)
	}
	var coming int64
	for _, share := range st.Coming {
		coming += share.Bytes
	}
	if left := s.fleet.Room(name, int64(d.KeepFree)); left >= 0 {
		st.Short = max(0, coming-left)
	}
	if st.Short > 0 {
		st.Says = short(st, coming)
	}
	return st, nil
}

// short says by how much what is still to come does not fit, and what of it
// takes how much.
func short(st wire.DestinationStatus, coming int64) string {
	var parts []string
	for i, share := range st.Coming {
		if i == 3 {
			parts = append(parts, "and more")
			break
		}
		parts = append(parts, fmt.Sprintf("%s of %s on %s %s", share.Kind.Plural(), share.Rule, share.Device,
			words.Bytes(share.Bytes)))
	}
	return fmt.Sprintf("%s lacks %s of room: what still goes there takes %s (%s).", st.Name, words.Bytes(st.Short),
		words.Bytes(coming), strings.Join(parts, ", "))
}

// SettlePlace is the keeper's answer about a destination that has come to stand for
// another place: what was at the old one was moved there, or it is new.
func (s *Destinations) SettlePlace(ctx context.Context, name string, moved bool) (n int64, err error) {
	if _, there := s.book.PlanOrEmpty().Destinations[name]; !there {
		return 0, ErrNoDestination
	}
	answered := false
	for _, d := range s.devices() {
		one, err := d.Orders.SettlePlace(ctx, name, moved)
		var none place.NoQuestion
		if errors.As(err, &none) {
			continue
		}
		if err != nil {
			return n, err
		}
		n, answered = n+one, true
	}
	if !answered {
		return 0, place.NoQuestion{Name: name}
	}
	s.drivers.forget()
	return n, nil
}

// Test begins to try a destination of the plan, and to see that it is the place that
// it was.
func (s *Destinations) Test(ctx context.Context, name string) (wire.Job, error) {
	d, there := s.book.PlanOrEmpty().Destinations[name]
	if !there {
		return wire.Job{}, ErrNoDestination
	}
	t := s.newTrial(ctx, wire.Draft{Name: name, Destination: d})
	t.place = func(id string) error {
		for _, one := range s.devices() {
			if !one.Told.StandsFor(name, id) {
				return &destination.Error{Cause: queue.Elsewhere, Says: "what lies there is not the place that " + name +
					" stood for; what was proven there does not count here"}
			}
		}
		return nil
	}
	return s.beginTrial(t, t.run)
}

// Browse tells what lies in a folder of a storage that is being set up.
func (s *Destinations) Browse(ctx context.Context, ask wire.Browse) (wire.Listing, error) {
	ask.Draft = vault.WithSecrets(ask.Draft)
	d := ask.Destination
	if d.Kind == plan.Folder && d.Path == "" {
		d.Path = "/"
	}
	driver, err := open(d, s.draftSecrets(ctx, ask.Draft))
	if err != nil {
		return wire.Listing{}, err
	}
	defer driver.Close()
	b, able := driver.(destination.Browser)
	if !able {
		return wire.Listing{}, &destination.Error{Cause: queue.Misplaced, Says: "this storage cannot be listed"}
	}
	folder := strings.Trim(path.Clean("/"+ask.Folder), "/")
	if ask.Make {
		if err := b.MakeFolder(ctx, folder); err != nil {
			return wire.Listing{}, err
		}
	}
	entries, err := b.List(ctx, folder)
	if err != nil {
		return wire.Listing{}, err
	}
	entries = slices.DeleteFunc(entries, func(e destination.Entry) bool { return e.Name == destination.MarkerName })
	slices.SortFunc(entries, func(a, b destination.Entry) int {
		if a.Folder != b.Folder {
			return map[bool]int{true: -1, false: 1}[a.Folder]
		}
		return cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	listing := wire.Listing{Entries: []wire.Entry{}}
	for _, e := range entries[:min(len(entries), maxListed)] {
		listing.Entries = append(listing.Entries, wire.Entry(e))
	}
	return listing, nil
}

// maxListed is how many entries of a folder are told.
const maxListed = 1000
