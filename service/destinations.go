package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"yardtide/client"
	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/device"
)

// ErrNoDestination tells that the plan has no destination of a name.
var ErrNoDestination = errors.New("the plan has no such destination")

// InUse tells that rules still send to a destination.
type InUse struct {
	Name  string
	Rules []string
}

func (e InUse) Error() string {
	return fmt.Sprintf("%s is still what %s to; change or remove the rule first (yardtide plan apply)", e.Name, map[bool]string{true: "the rule " + e.Rules[0] + " sends", false: "the rules " + strings.Join(e.Rules, ", ") + " send"}[len(e.Rules) == 1])
}

// AddDestination puts a destination into the plan and keeps its secrets. It
// does not try it: Try does that. Without a plan yet it writes the first one
// around it. The error is plan.Problems or plan.EditError when it cannot stand
// in the plan.
func (s *Service) AddDestination(draft client.Draft) error {
	s.adding.Lock()
	defer s.adding.Unlock()
	d := withSecrets(draft).Destination
	v := vault{s.Dir}
	if err := plan.CheckDestination(draft.Name, d); err != nil {
		return err
	}
	text, err := s.withDestination(draft.Name, d)
	if err != nil {
		return err
	}
	for _, secret := range []struct{ from, value string }{{draft.Name, draft.Password}, {draft.Name + ".key", draft.Key}} {
		if secret.value == "" {
			continue
		}
		if err := v.put(secret.from, secret.value); err != nil {
			return err
		}
	}
	return s.ApplyPlan("plan.yaml", text)
}

func (s *Service) withDestination(name string, d plan.Destination) (string, error) {
	if text := s.PlanText(); text != "" {
		return plan.WithDestination(text, name, d)
	}
	if len(s.devices) == 0 {
		return "", plan.EditError{Says: "there is no plan and no device here to write one for"}
	}
	return plan.First("Home", zoneName(), s.devices[0].Name, "Pictures", name, d), nil
}

// zoneName is the name of this machine's time zone, UTC when it has none.
func zoneName() string {
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

// RemoveDestination takes a destination out of the plan and forgets its kept
// secrets. What is stored there stays.
func (s *Service) RemoveDestination(name string) error {
	s.adding.Lock()
	defer s.adding.Unlock()
	p := s.planOrEmpty()
	d, there := p.Destinations[name]
	if !there {
		return ErrNoDestination
	}
	if rules := rulesTo(p, name); len(rules) > 0 {
		return InUse{name, rules}
	}
	text, err := plan.WithoutDestination(s.PlanText(), name)
	if err != nil {
		return err
	}
	if err := s.ApplyPlan("plan.yaml", text); err != nil {
		return err
	}
	v := vault{s.Dir}
	for _, from := range []plan.Secret{d.PasswordFrom, d.KeyFrom} {
		if kept, ok := strings.CutPrefix(string(from), "kept:"); ok {
			if err := v.remove(kept); err != nil {
				return err
			}
		}
	}
	return nil
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

// Destination tells all of one destination.
func (s *Service) Destination(ctx context.Context, name string) (client.DestinationDetail, error) {
	p := s.planOrEmpty()
	d, there := p.Destinations[name]
	if !there {
		return client.DestinationDetail{}, ErrNoDestination
	}
	status, err := s.destinationStatus(ctx, name, d)
	return client.DestinationDetail{Destination: d, Status: status, Rules: rulesTo(p, name)}, err
}

// destinationStatus tells what is at a destination, what is still to come, and
// whether that fits.
func (s *Service) destinationStatus(ctx context.Context, name string, d plan.Destination) (client.DestinationStatus, error) {
	st := client.DestinationStatus{Name: name, Kind: d.Kind, Where: where(d), KeepFree: int64(d.KeepFree)}
	s.drivers.refresh(name)
	st.Space = s.fleet.SpaceNow(name)
	var err error
	if st.There, st.Coming, err = s.fleet.Shares(ctx, name); err != nil {
		return st, err
	}
	var coming int64
	for _, share := range st.Coming {
		coming += share.Bytes
	}
	if left := s.fleet.Left(name, int64(d.KeepFree)); left >= 0 {
		st.Short = max(0, coming-left)
	}
	if st.Short > 0 {
		st.Says = short(st, coming)
	}
	return st, nil
}

// short says by how much what is still to come does not fit, and what of it
// takes how much.
func short(st client.DestinationStatus, coming int64) string {
	var parts []string
	for i, share := range st.Coming {
		if i == 3 {
			parts = append(parts, "and more")
			break
		}
		parts = append(parts, fmt.Sprintf("%ss of %s on %s %s", share.Kind, share.Rule, share.Device, gate.Bytes(share.Bytes)))
	}
	return fmt.Sprintf("What is still to come to %s takes %s, which is %s more than there is room for: %s.", st.Name, gate.Bytes(coming), gate.Bytes(st.Short), strings.Join(parts, ", "))
}

// Browse tells what lies in a folder of a storage that is being set up.
func (s *Service) Browse(ctx context.Context, ask client.Browse) (client.Listing, error) {
	ask.Draft = withSecrets(ask.Draft)
	d := ask.Destination
	if d.Kind == plan.Folder && d.Path == "" {
		d.Path = "/"
	}
	driver, err := open(d, s.draftSecrets(ask.Draft))
	if err != nil {
		return client.Listing{}, err
	}
	defer driver.Close()
	b, able := driver.(destination.Browser)
	if !able {
		return client.Listing{}, &destination.Error{Cause: queue.Misplaced, Says: "this storage cannot be listed"}
	}
	folder := strings.Trim(path.Clean("/"+ask.Folder), "/")
	if ask.Make {
		if err := b.MakeFolder(ctx, folder); err != nil {
			return client.Listing{}, err
		}
	}
	entries, err := b.List(ctx, folder)
	if err != nil {
		return client.Listing{}, err
	}
	slices.SortFunc(entries, func(a, b destination.Entry) int {
		if a.Folder != b.Folder {
			return map[bool]int{true: -1, false: 1}[a.Folder]
		}
		return cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	return client.Listing{Entries: append([]destination.Entry{}, entries[:min(len(entries), maxListed)]...)}, nil
}

// maxListed is how many entries of a folder are told.
const maxListed = 1000

// Adopt lists what was at a destination before, so that it is not sent again.
// The first device here that the plan sends there from keeps it.
func (s *Service) Adopt(ctx context.Context, name string) (device.Adopted, error) {
	p := s.planOrEmpty()
	if _, there := p.Destinations[name]; !there {
		return device.Adopted{}, ErrNoDestination
	}
	if len(s.devices) == 0 {
		return device.Adopted{}, errors.New("no device runs here")
	}
	chosen := s.devices[0]
	for _, d := range s.devices {
		for _, source := range p.Devices[d.Name].Sources {
			if slices.Contains(p.Rules[source.Rule].To, name) {
				chosen = d
			}
		}
	}
	return chosen.Adopt(ctx, name)
}

// Proving tells how far the proofs are that are taken again.
func (s *Service) Proving(ctx context.Context) (client.Proving, error) {
	var out client.Proving
	for _, d := range s.devices {
		left, held, err := d.Reproving(ctx)
		if err != nil {
			return out, err
		}
		counters, err := d.Records.Counters(ctx)
		if err != nil {
			return out, err
		}
		out.Left, out.Held = out.Left+left, out.Held+held
		for _, c := range counters {
			if c.State == queue.Stuck {
				out.Stuck += c.N
			}
		}
	}
	return out, nil
}
