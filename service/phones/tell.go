package phones

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardtide/core/words"
	"yardtide/engine/atomicfile"
	"yardtide/engine/inbox"
	"yardtide/engine/records"
	"yardtide/service/household"
	"yardtide/wire"
	"yardtide/wire/phonewire"

	"golang.org/x/crypto/ssh"
)

// This file tells of phones: to the keeper all, and to each phone its own.

// All tells of every phone.
func (p *Phones) All(ctx context.Context) ([]phonewire.InboxPhone, error) {
	list := []phonewire.InboxPhone{}
	for _, one := range p.list() {
		told, err := one.tell(ctx)
		if err != nil {
			return nil, err
		}
		list = append(list, told)
	}
	return list, nil
}

func (one *Phone) tell(ctx context.Context) (phonewire.InboxPhone, error) {
	sum, err := one.device.Records.Handed.Sum(ctx)
	if err != nil {
		return phonewire.InboxPhone{}, err
	}
	one.mu.Lock()
	k := one.kept
	one.mu.Unlock()
	t := phonewire.InboxPhone{Name: one.Name, Person: one.of.Plan().Devices[one.Name].Person, Added: k.Added, Revoked: k.Page == "" && k.App == "",
		LastWay: sum.LastWay, N: sum.N, Bytes: sum.Bytes, Inbox: sum.Here, Held: sum.Held, Most: one.most(), HeldDays: one.heldDays(),
		Underway: one.Inbox.Uploads.Underway()}
	if sum.LastMS > 0 {
		t.Last = time.UnixMilli(sum.LastMS)
	}
	t.Says = says(t)
	return t, nil
}

// lackFor is how long the keeper is told that a phone found no room.
const lackFor = time.Hour

// Needs are what the keeper is asked for: room, where a phone found none.
func (p *Phones) Needs(now time.Time) (list []wire.Need) {
	for _, one := range p.list() {
		if lack := p.room.Lacked(one.Name); now.Sub(lack.At) < lackFor {
			list = append(list, wire.Need{Says: one.Name + " could not hand something over. " + lack.Says, Device: one.Name, Mends: "nothing",
				Todo: "See what waits, or give its inbox more: yardtide phone set " + one.Name + " -most SIZE."})
		}
	}
	return list
}

// wayWords are the ways in words.
var wayWords = map[string]string{"page": "by its page", "webdav": "by an app (WebDAV)", "sftp": "by an app (SFTP)"}

func says(t phonewire.InboxPhone) string {
	var s []string
	if t.N == 0 {
		s = append(s, "It handed nothing over yet.")
	} else {
		s = append(s, fmt.Sprintf("It handed over %s, %s, the last %s.", words.Files(t.N), words.Bytes(t.Bytes), wayWords[t.LastWay]))
	}
	if t.Inbox > 0 {
		s = append(s, fmt.Sprintf("%s are in its inbox.", words.Bytes(t.Inbox)))
	}
	if t.Held > 0 {
		s = append(s, fmt.Sprintf("%s are safe and stay in the holding place for %d days.", words.Bytes(t.Held), t.HeldDays))
	}
	if 10*(t.Inbox+t.Held) > 9*t.Most {
		s = append(s, fmt.Sprintf("Its inbox is nearly full: it may take %s.", words.Bytes(t.Most)))
	}
	if t.Revoked {
		s = append(s, "It is answered no more.")
	}
	return strings.Join(s, " ")
}

// Set changes a phone. The error is ErrNoPhone, or household.Refused.
func (p *Phones) Set(name string, s phonewire.PhoneSet) error {
	one, is := p.Phone(name)
	if !is {
		return ErrNoPhone
	}
	for _, key := range s.Keys {
		if _, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key)); err != nil {
			return household.Refuse("%q is not a public key as ssh-keygen writes it, such as ssh-ed25519 AAAA…", key)
		}
	}
	return one.change(func(k *kept) {
		if s.Most != nil {
			k.Most = *s.Most
		}
		if s.HeldDays != nil {
			k.HeldDays = s.HeldDays
		}
		if s.Keys != nil {
			k.Keys = s.Keys
		}
	})
}

// Mine tells a phone of itself. The newest files it handed over are among it, so many at most.
func (one *Phone) Mine(ctx context.Context, most int) (phonewire.Mine, error) {
	p := one.of.Plan()
	m := phonewire.Mine{Name: one.Name, Yard: p.Yard, Person: p.Devices[one.Name].Person, Files: []phonewire.Given{},
		Left: max(0, one.most()-one.of.room.Taken(one.Name))}
	for _, s := range p.Devices[one.Name].Sources {
		for _, name := range s.Rules {
			for _, lane := range p.Rules[name].Lanes {
				if lane.Over == "cellular" {
					m.Metered, m.Allowance = true, lane.Allowance.String()
				}
			}
		}
	}
	list, err := one.device.Records.Handed.Newest(ctx, most)
	if err != nil {
		return m, err
	}
	if m.Files, err = one.given(ctx, list); err != nil {
		return m, err
	}
	for _, given := range m.Files {
		if given.Safe {
			m.Safe++
		} else {
			m.Waiting++
		}
	}
	return m, nil
}

// given tells how some files stand that were handed over.
func (one *Phone) given(ctx context.Context, list []records.HandedOver) ([]phonewire.Given, error) {
	paths := make([][2]string, len(list))
	for i, h := range list {
		paths[i] = [2]string{h.Way, h.Path}
	}
	all, err := one.judge(ctx, paths)
	if err != nil {
		return nil, err
	}
	told := make([]phonewire.Given, len(list))
	for i, h := range list {
		told[i] = phonewire.Given{Path: h.Path, Bytes: h.Size, SHA256: h.SHA256, At: time.UnixMilli(h.AtMS), Safe: all[i].Safe, May: all[i].May,
			Says: standing(all[i])}
	}
	return told, nil
}

// standing says how a file stands, to the one whose phone it is.
func standing(s inbox.Standing) string {
	switch {
	case s.May && len(s.Smaller) > 0:
		return "Safe at " + words.And(s.AsShot) + ", and in a smaller form at " + words.And(s.Smaller) + ": may be deleted here."
	case s.May:
		return "Safe at " + words.And(s.AsShot) + ": may be deleted here."
	case s.Safe:
		return "Safe at " + words.And(s.Smaller) + " in a smaller form: keep it here if you want it as it was shot."
	case s.Says != "":
		return "Handed over, and not safe yet: keep it here. " + s.Says
	}
	return "Handed over, and not safe yet: keep it here."
}

// mostAsked is how many contents a phone may ask about at once.
const mostAsked = 500

// Knows tells which contents a phone need not send: what it handed over itself, and what its person's other devices have
// proven at every place that its rules ask for. Of anybody else's nothing is told.
func (one *Phone) Knows(ctx context.Context, asked []phonewire.Content) ([]phonewire.Knows, error) {
	if len(asked) > mostAsked {
		return nil, household.Refuse("at most %d are asked about at once", mostAsked)
	}
	hashes := make([]string, len(asked))
	for i, a := range asked {
		hashes[i] = strings.ToLower(a.SHA256)
	}
	rows, err := one.device.Records.Handed.WithContent(ctx, hashes)
	if err != nil {
		return nil, err
	}
	own, err := one.given(ctx, rows)
	if err != nil {
		return nil, err
	}
	sizes := make([]int64, len(asked))
	for i, a := range asked {
		sizes[i] = a.Bytes
	}
	has, err := one.device.Records.Handed.OfSizes(ctx, sizes)
	if err != nil {
		return nil, err
	}
	list := make([]phonewire.Knows, 0, len(asked))
	for i, a := range asked {
		k := phonewire.Knows{SHA256: a.SHA256, Like: has[a.Bytes]}
		for _, g := range own {
			if g.SHA256 == hashes[i] && g.Bytes == a.Bytes && (!k.Known || g.May) {
				k.Known, k.May, k.Says = true, g.May, g.Says
			}
		}
		if !k.Known {
			if k, err = one.ofPerson(ctx, k, hashes[i], a.Bytes); err != nil {
				return nil, err
			}
		}
		list = append(list, k)
	}
	return list, nil
}

// ofPerson looks for a content among what the other devices of the phone's person have.
func (one *Phone) ofPerson(ctx context.Context, k phonewire.Knows, hash string, bytes int64) (phonewire.Knows, error) {
	p := one.of.Plan()
	person := p.Devices[one.Name].Person
	if person == "" {
		return k, nil
	}
	var devices []string
	for name, d := range p.Devices {
		if d.Person == person && name != one.Name {
			devices = append(devices, name)
		}
	}
	var places []string
	for _, s := range p.Devices[one.Name].Sources {
		for _, rule := range s.Rules {
			for _, to := range p.Rules[rule].To {
				if !slices.Contains(places, to) {
					places = append(places, to)
				}
			}
		}
	}
	if len(places) == 0 || len(devices) == 0 {
		return k, nil
	}
	for _, to := range places {
		has, err := one.of.HasAny(ctx, devices, to, bytes, hash)
		if err != nil || !has {
			return k, err
		}
	}
	if k.Like = true; hash == "" {
		return k, nil
	}
	slices.Sort(places)
	k.Known, k.May, k.Says = true, true, "Safe at "+words.And(places)+", from another device of yours: may be deleted here."
	return k, nil
}

// Network tells where the service listens for phones, and what is closed when that changes.
func (p *Phones) Network() (n phonewire.PhoneNetwork, moved <-chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.network, p.moved
}

// SetNetwork says where to listen for phones. It is kept. The error is household.Refused.
func (p *Phones) SetNetwork(n phonewire.PhoneNetwork) error {
	for _, address := range []string{n.Plain, n.SFTP} {
		if err := household.CheckAddress(address); err != nil {
			return err
		}
	}
	if n.Most < 1_000_000 {
		return household.Refuse("the inboxes take 1 MB at least, and not %s", words.Bytes(n.Most))
	}
	n.PlainProblem, n.SFTPProblem, n.PlainAt, n.SFTPAt = "", "", "", ""
	text, err := json.Marshal(n)
	if err == nil {
		err = atomicfile.Write(p.networkFile(), string(text)+"\n")
	}
	if err != nil {
		return fmt.Errorf("keeping where to listen for phones: %w", err)
	}
	p.mu.Lock()
	p.network = n
	close(p.moved)
	p.moved = make(chan struct{})
	p.mu.Unlock()
	p.Tell()
	return nil
}

// Listens notes where the service listens for phones now, and why it cannot.
func (p *Phones) Listens(how func(*phonewire.PhoneNetwork)) {
	p.mu.Lock()
	how(&p.network)
	p.mu.Unlock()
	p.Tell()
}
