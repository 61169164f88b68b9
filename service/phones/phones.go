// Package phones knows the phones that hand over what they have, by their browser or an app, and run no program of ours:
// their keys, and the inbox of each. Each is a device of this process, whose sources are the folders of its inbox. The
// listeners by which phones come are in service/handover.
package phones

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/words"
	"yardtide/engine/atomicfile"
	"yardtide/engine/inbox"
	"yardtide/engine/link"
	"yardtide/engine/records"
	"yardtide/service/household"
	"yardtide/wire"
	"yardtide/wire/phonewire"
)

// Taker is what the phones need of the device that takes up an inbox.
type Taker struct {
	Records *records.Records
	// Under tells the items of some paths, each a source and what lies below it; nil where there is none.
	Under func(ctx context.Context, paths [][2]string) ([]*wire.Item, error)
}

// Options make the phones.
type Options struct {
	Dir string // the data directory
	Log *slog.Logger
	// Plan is the one in force; Edit changes it.
	Plan func() *plan.Plan
	Edit func(ctx context.Context, edits []plan.Edit) error
	// Away is the yard that this device joined itself; "" where the yard's service is here.
	Away string
	// Home is where phones come, HostKey by what apps know the service over SSH.
	Home    func() wire.HomeNetwork
	HostKey func() ssh.PublicKey
	// Begin begins a device of this process.
	Begin func(ctx context.Context, name, root string) (Taker, error)
	// Free is of the disk of the inboxes, -1 where nobody knows.
	Free func() int64
	// HasAny tells whether one of some devices has a content proven at a destination.
	HasAny func(ctx context.Context, devices []string, destination string, bytes int64, sha256 string) (bool, error)
	Tell   func()
}

// Bounds, unless the keeper says others.
const (
	defaultMost     = 20_000_000_000  // bytes of an inbox
	defaultMostAll  = 100_000_000_000 // bytes of all
	defaultHeldDays = 7
	keepFree        = 1_000_000_000 // bytes of the disk
	mostPhones      = 64
)

// kept is what is kept of a phone.
type kept struct {
	Added    time.Time `json:"added"`
	Page     string    `json:"page"`           // the SHA-256 of the token of its page, in hex; "" when it was revoked
	App      string    `json:"app"`            // the same of the password of its apps
	Keys     []string  `json:"keys,omitempty"` // SSH public keys
	Most     int64     `json:"most,omitempty"`
	HeldDays *int      `json:"heldDays,omitempty"`
}

// Phone is one of them. Its methods are safe for concurrent use.
type Phone struct {
	Name   string
	Inbox  *inbox.Inbox
	device Taker
	of     *Phones

	mu      sync.Mutex
	kept    kept
	leaving chan struct{} // closed when its keys are revoked
}

// Phones are all of them.
type Phones struct {
	Options
	room inbox.Room

	adding sync.Mutex // held while one is added

	mu      sync.Mutex
	all     map[string]*Phone
	network phonewire.PhoneNetwork
	moved   chan struct{} // closed when the network changes
}

// New makes phones that knows nobody yet: Open reads them.
func New(o Options) *Phones {
	p := &Phones{Options: o, all: map[string]*Phone{}, moved: make(chan struct{})}
	p.room = inbox.Room{Free: o.Free, KeepFree: keepFree, Most: func() int64 {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.network.Most
	}}
	return p
}

func (p *Phones) file(name string) string { return filepath.Join(p.Dir, "phones", name+".json") }
func (p *Phones) networkFile() string     { return filepath.Join(p.Dir, "phone-network.json") }

// Open reads the phones, and begins their devices.
func (p *Phones) Open(ctx context.Context) error {
	p.network.Most = defaultMostAll
	text, err := os.ReadFile(p.networkFile())
	if err == nil {
		err = json.Unmarshal(text, &p.network)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("reading where to listen for phones: %w", err)
	}
	files, err := filepath.Glob(p.file("*"))
	if err != nil {
		return fmt.Errorf("listing the phones: %w", err)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		var k kept
		if err == nil {
			err = json.Unmarshal(text, &k)
		}
		name := strings.TrimSuffix(filepath.Base(file), ".json")
		if err == nil {
			_, err = p.open(ctx, name, k)
		}
		if err != nil {
			return fmt.Errorf("opening the phone %s: %w", name, err)
		}
	}
	return nil
}

func (p *Phones) open(ctx context.Context, name string, k kept) (*Phone, error) {
	dir := filepath.Join(p.Dir, "inbox", name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the inbox of %s: %w", name, err)
	}
	d, err := p.Begin(ctx, name, dir)
	if err != nil {
		return nil, err
	}
	one := &Phone{Name: name, device: d, of: p, kept: k, leaving: make(chan struct{})}
	one.Inbox, err = inbox.Open(ctx, inbox.Options{Phone: name, Dir: dir, Records: d.Records, Room: &p.room, Judge: one.judge,
		Most: one.most, HeldFor: one.heldFor, Tell: p.Tell})
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	p.all[name] = one
	p.mu.Unlock()
	return one, nil
}

// Close lets go of the inboxes.
func (p *Phones) Close() (err error) {
	for _, one := range p.list() {
		err = errors.Join(err, one.Inbox.Close())
	}
	return err
}

func (p *Phones) list() []*Phone {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.SortedFunc(maps.Values(p.all), func(a, b *Phone) int { return strings.Compare(a.Name, b.Name) })
}

// Has tells whether a phone has a name, in capitals or not.
func (p *Phones) Has(name string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for known := range p.all {
		if strings.EqualFold(known, name) {
			return true
		}
	}
	return false
}

// freeEvery is how often it is looked for what is safe.
const freeEvery = time.Minute

// Run frees the inboxes of what is safe, until the context ends.
func (p *Phones) Run(ctx context.Context) {
	tick := time.NewTicker(freeEvery)
	defer tick.Stop()
	for {
		p.FreeNow(ctx, time.Now())
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// FreeNow moves what is safe into the holding places, and removes what lay there long enough.
func (p *Phones) FreeNow(ctx context.Context, now time.Time) {
	for _, one := range p.list() {
		if err := one.Inbox.Free(ctx, now); err != nil && ctx.Err() == nil {
			p.Log.Error("an inbox could not be freed", "device", one.Name, "err", err)
		}
	}
}

// judge tells how files stand, by their ways and paths.
func (one *Phone) judge(ctx context.Context, paths [][2]string) ([]inbox.Standing, error) {
	items, err := one.device.Under(ctx, paths)
	if err != nil {
		return nil, err
	}
	all := make([]inbox.Standing, len(paths))
	for i, it := range items {
		if all[i].Says = "It is in the inbox, and is looked at."; it != nil {
			all[i] = inbox.StandingOf(*it)
		}
	}
	return all, nil
}

func (one *Phone) most() int64 {
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.kept.Most > 0 {
		return one.kept.Most
	}
	return defaultMost
}

func (one *Phone) heldDays() int {
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.kept.HeldDays != nil {
		return *one.kept.HeldDays
	}
	return defaultHeldDays
}

func (one *Phone) heldFor() time.Duration { return time.Duration(one.heldDays()) * 24 * time.Hour }

// Keys are secrets that were made for a phone. They are told once, and kept as their hashes.
type Keys struct{ Page, App string }

var letters = base32.StdEncoding.WithPadding(base32.NoPadding)

func newKeys() Keys {
	page, app := make([]byte, 20), make([]byte, 10)
	_, _ = rand.Read(page) // it never fails (crypto/rand)
	_, _ = rand.Read(app)
	return Keys{strings.ToLower(letters.EncodeToString(page)), link.InFours(strings.ToLower(letters.EncodeToString(app)))}
}

// hashOf is the hash of a secret, which may be typed with other capitals and without its dashes.
func hashOf(secret string) string {
	sum := sha256.Sum256([]byte(strings.NewReplacer("-", "", " ", "").Replace(strings.ToLower(secret))))
	return hex.EncodeToString(sum[:])
}

// Add adds a phone, and gives it keys; one that is there already gets new ones, and those before are revoked. The error
// is household.Refused for what cannot be.
func (p *Phones) Add(ctx context.Context, a phonewire.PhoneAdd, now time.Time) (*Phone, Keys, error) {
	p.adding.Lock()
	defer p.adding.Unlock()
	keys := newKeys()
	one, there := p.Phone(a.Name)
	if !there {
		if err := p.mayAdd(a); err != nil {
			return nil, keys, err
		}
	}
	edit, err := p.edit(a)
	if err != nil {
		return nil, keys, err
	}
	if there {
		err = one.give(keys)
	} else {
		one, err = p.begin(ctx, a.Name, keys, now)
	}
	if err != nil {
		return nil, keys, err
	}
	if len(edit) > 0 {
		if err := p.Edit(ctx, edit); err != nil {
			return nil, keys, fmt.Errorf("the phone was added, and the plan does not have it yet; add it again, or write it there: %w", err)
		}
	}
	p.Tell()
	return one, keys, nil
}

// begin keeps a new phone, and opens its inbox.
func (p *Phones) begin(ctx context.Context, name string, keys Keys, now time.Time) (*Phone, error) {
	k := kept{Added: now.UTC(), Page: hashOf(keys.Page), App: hashOf(keys.App)}
	if err := p.keep(name, k); err != nil {
		return nil, err
	}
	p.Log.Info("a phone was added", "device", name)
	return p.open(ctx, name, k)
}

func (p *Phones) mayAdd(a phonewire.PhoneAdd) error {
	if p.Away != "" {
		return household.Refuse("this device joined %s; phones are added there", p.Away)
	}
	if !plan.IsName(a.Name) {
		return household.Refuse("%q cannot be the name of a phone; it would be letters, digits, dots and dashes, at most 63", a.Name)
	}
	if p.Has(a.Name) {
		return household.Refuse("there is a phone %s already; names that differ in capital letters alone are one", a.Name)
	}
	if len(p.list()) >= mostPhones {
		return household.Refuse("there are %d phones, which is as many as there can be", mostPhones)
	}
	for known, d := range p.Plan().Devices {
		if known == a.Name && slices.ContainsFunc(d.Sources, func(s plan.Source) bool { return s.Folder == string(inbox.ByPage) }) {
			continue // it was here before
		}
		if strings.EqualFold(known, a.Name) {
			return household.Refuse("the plan has a device %s already; give the phone another name", known)
		}
	}
	return nil
}

// edit is what makes a phone a device of the plan; none where it is one already.
func (p *Phones) edit(a phonewire.PhoneAdd) ([]plan.Edit, error) {
	now := p.Plan()
	if len(now.Rules) == 0 {
		return nil, household.Refuse("there is no rule yet that its pictures could follow; make the first plan (the page Set-up), or a rule")
	}
	if _, there := now.Devices[a.Name]; there {
		return nil, nil
	}
	rule := a.Rule
	if rule == "" {
		rule = usual(now)
	}
	if _, is := now.Rules[rule]; !is {
		return nil, household.Refuse("the plan has no rule %s; it has %s", rule, words.And(slices.Sorted(maps.Keys(now.Rules))))
	}
	value := map[string]any{"sources": sources(rule)}
	if a.Person != "" {
		if !slices.Contains(now.People, a.Person) {
			return nil, household.Refuse("the plan has no person %s; it has %s under people", a.Person, words.And(now.People))
		}
		value["person"] = a.Person
	}
	return []plan.Edit{{Path: []string{"devices", a.Name}, Value: value, New: true}}, nil
}

func sources(rule string) (list []any) {
	for _, way := range inbox.Ways {
		list = append(list, map[string]any{"folder": string(way), "rules": []string{rule}})
	}
	return list
}

// usual is the rule for photos that most sources follow.
func usual(p *plan.Plan) (rule string) {
	follow := map[string]int{}
	for _, d := range p.Devices {
		for _, s := range d.Sources {
			for _, r := range s.Rules {
				follow[r]++
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Rules)) {
		takes := slices.Contains(p.Rules[name].Take, media.Photo)
		if takes && (rule == "" || follow[name] > follow[rule]) {
			rule = name
		}
	}
	if rule == "" {
		rule = slices.Sorted(maps.Keys(p.Rules))[0]
	}
	return rule
}

func (p *Phones) keep(name string, k kept) error {
	text, err := json.Marshal(k)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(p.file(name)), 0o700)
	}
	if err == nil {
		err = atomicfile.Write(p.file(name), string(text)+"\n")
	}
	if err != nil {
		return fmt.Errorf("keeping the phone %s: %w", name, err)
	}
	return nil
}

// change changes what is kept of a phone. What ends its keys ends what it is doing, at once.
func (one *Phone) change(how func(*kept)) error {
	one.mu.Lock()
	defer one.mu.Unlock()
	k := one.kept
	how(&k)
	if err := one.of.keep(one.Name, k); err != nil {
		return err
	}
	if k.Page != one.kept.Page || k.App != one.kept.App || !slices.Equal(k.Keys, one.kept.Keys) {
		close(one.leaving)
		one.leaving = make(chan struct{})
	}
	one.kept = k
	one.of.Tell()
	return nil
}

func (one *Phone) give(keys Keys) error {
	return one.change(func(k *kept) { k.Page, k.App = hashOf(keys.Page), hashOf(keys.App) })
}

// ErrNoPhone tells that no phone that hands over has a name.
var ErrNoPhone = errors.New("no phone that hands over here has this name")

// Phone finds one by its name.
func (p *Phones) Phone(name string) (*Phone, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one, is := p.all[name]
	return one, is
}

// Revoke has a phone answered no more: its keys are none, and what it was doing ends. What it handed over goes on.
func (p *Phones) Revoke(name string) error {
	one, is := p.Phone(name)
	if !is {
		return ErrNoPhone
	}
	p.Log.Info("a phone was revoked", "device", name)
	return one.change(func(k *kept) { k.Page, k.App, k.Keys = "", "", nil })
}

// Caller is a phone that showed a key.
type Caller struct {
	*Phone
	Revoked <-chan struct{} // closed when its keys are revoked
}

// ByToken finds the phone whose page shows a token.
func (p *Phones) ByToken(token string) (Caller, bool) {
	return p.by(func(one *Phone, k kept) bool { return matches(k.Page, token) })
}

// ByPassword finds the phone whose app shows its name and password.
func (p *Phones) ByPassword(name, password string) (Caller, bool) {
	return p.by(func(one *Phone, k kept) bool {
		return matches(k.App, password) && strings.EqualFold(one.Name, name)
	})
}

// ByKey finds the phone of a name whose app shows one of its SSH keys.
func (p *Phones) ByKey(name string, is func(authorized string) bool) (Caller, bool) {
	return p.by(func(one *Phone, k kept) bool { return one.Name == name && slices.ContainsFunc(k.Keys, is) })
}

func matches(hash, secret string) bool {
	return hash != "" && secret != "" && hmac.Equal([]byte(hash), []byte(hashOf(secret)))
}

func (p *Phones) by(is func(*Phone, kept) bool) (Caller, bool) {
	for _, one := range p.list() {
		one.mu.Lock()
		k, leaving := one.kept, one.leaving
		one.mu.Unlock()
		if is(one, k) {
			return Caller{one, leaving}, true
		}
	}
	return Caller{}, false
}
