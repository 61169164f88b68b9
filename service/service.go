// Package service is the long-running service: it holds the plan, runs the
// devices of this process, shares drivers between them, and tells who listens
// when something changes. Its API is in service/api.
//
// One data directory has one process: a lock sees to that.
package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sync/errgroup"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/awake"
	"yardtide/engine/device"
	"yardtide/engine/face"
	"yardtide/engine/fleet"
	"yardtide/engine/inbox"
	"yardtide/engine/link"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/engine/scan"
	"yardtide/engine/sensor"
	"yardtide/engine/volume"
	"yardtide/service/bringing"
	"yardtide/service/caller"
	"yardtide/service/household"
	"yardtide/service/jobs"
	"yardtide/service/library"
	"yardtide/service/makingroom"
	"yardtide/service/phones"
	"yardtide/service/planbook"
	"yardtide/service/setup"
	"yardtide/service/vault"
	"yardtide/wire"
)

// Local is a device that runs in this process.
type Local struct {
	Name   string
	Root   string
	Sensor sensor.Sensor
	Awake  awake.System // keeps this machine awake; nil for a simulated device
	// Inbox tells that its folders are those of what a phone handed over: they are emptied as it gets safe.
	Inbox bool
	// Volumes lists cards, cameras and phones on a cable; nil looks for none.
	Volumes volume.Lister
}

// Options make a service.
type Options struct {
	Dir     string // the data directory
	Members []Local
	Log     *slog.Logger
	Standin Standin // nil outside the demo
	Scan    scan.Options
	Wait    func(time.Duration) time.Duration // of devices; nil is as it is
	Version string                            // of the program
	// Beside runs beside the devices, if anything does.
	Beside func(ctx context.Context, s *Service) error
	// Planned is called with a plan before any device is given it, if it is there.
	Planned func(p *plan.Plan)
	// Inboxes senses for what phones handed over, which goes from this machine; nil is as for the first member.
	Inboxes sensor.Sensor
	// Joined is the service that the one member joined; nil when this is the yard's.
	Joined *Joined
}

// Standin is what simulates phones, if anything does.
type Standin interface {
	Phones() []wire.Phone
	SetPhone(ctx context.Context, device string, conditions gate.Conditions) error
	FollowDay(ctx context.Context, device string) error
	// Clock is the simulated devices' clock; SetClock sets it.
	Clock() wire.StandinClock
	SetClock(ctx context.Context, c wire.StandinClock) error
	TakePicture(ctx context.Context, device string) error
	// PutCard puts a simulated card in, or pulls it out.
	PutCard(ctx context.Context, device string, in bool) error
}

// Service is one yard's service.
type Service struct {
	Options
	Book *planbook.Book
	Jobs *jobs.Jobs
	// Household are the devices elsewhere.
	Household *household.Household
	// Phones are those that hand over.
	Phones *phones.Phones
	// Setup is the first plan, while it is being made.
	Setup *setup.Setup

	// Keys are what lets a caller in.
	Keys *caller.Keys
	// Destinations are those of the plan, and drafts of others.
	Destinations Destinations
	// Trials tell what a plan would do, or a part of it.
	Trials Trials
	// Library finds items among all that are known.
	Library *library.Library
	// Room makes room on devices.
	Room *makingroom.Room
	// Bringing brings items back from places.
	Bringing *bringing.Bringing

	lock    *flock.Flock
	members members
	drivers drivers
	fleet   *fleet.Fleet
	others  device.Others
	faces   face.Cache

	home  *home // nil where the yard's service is here
	looks looks

	Changes Changes
}

// ErrInUse is the refusal of a data directory that another process has.
var ErrInUse = errors.New("another Yard Tide process uses it; stop that one first, or name another with -data")

// Open takes the data directory and opens everything in it.
func Open(ctx context.Context, o Options) (s *Service, err error) {
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the data directory: %w", err)
	}
	s = &Service{Options: o, lock: flock.New(filepath.Join(o.Dir, "lock"), flock.SetPermissions(0o600)),
		fleet: &fleet.Fleet{}, looks: newLooks()}
	locked, err := s.lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("locking the data directory %s: %w", o.Dir, err)
	}
	if !locked {
		return nil, fmt.Errorf("the data directory %s: %w", o.Dir, ErrInUse)
	}
	defer func(opened *Service) {
		if err != nil {
			err = errors.Join(err, opened.Close())
		}
	}(s)
	s.Jobs = &jobs.Jobs{Tell: s.Changes.Tell}
	s.Book = &planbook.Book{
		Dir: o.Dir, Log: o.Log, Closed: s.elsewherePlan, Planned: o.Planned, InForce: s.inForce,
		May: func(ctx context.Context, p *plan.Plan) error { return vault.MayUseAll(ctx, s.Book.PlanOrEmpty(), p) },
	}
	if s.Keys, err = caller.OpenKeys(filepath.Join(o.Dir, "token")); err != nil {
		return nil, err
	}
	if err := s.Book.Load(); err != nil {
		return nil, err
	}
	if err := (vault.Vault{Dir: o.Dir}).TakeOver(s.Book.PlanOrEmpty()); err != nil {
		o.Log.Warn("what an earlier version kept cannot be opened; it is asked for where it is needed", "err", err)
	}
	s.others = s.fleet
	var asks *link.Others
	if o.Joined != nil {
		if len(o.Members) != 1 {
			return nil, errors.New("one device joins a service, and not several at once")
		}
		if err := o.Joined.settle(o.Dir); err != nil {
			return nil, err
		}
		asks = link.NewOthers(s.sendsTo)
		s.others, s.fleet = asks, &asks.Fleet
	}
	s.drivers = drivers{plan: s.Book.Plan, tell: s.Changes.Tell, fleet: s.fleet, secrets: vault.Vault{Dir: o.Dir},
		made: map[string]made{}, asked: map[string]time.Time{}}
	if o.Joined != nil {
		s.drivers.authorities = filepath.Join(o.Dir, "authorities")
	}
	s.wire()
	s.faces.Dir = filepath.Join(o.Dir, "faces")
	for _, m := range o.Members {
		d, err := s.openDevice(ctx, m)
		if err != nil {
			return nil, err
		}
		// without one yet, a device that joined changes nothing
		if p := s.Book.PlanOrEmpty(); asks == nil || s.Book.Plan() != nil {
			d.SetPlan(p)
		}
		if asks != nil {
			return s, s.startLink(ctx, asks, d)
		}
	}
	if err := s.Household.Open(ctx); err != nil {
		return nil, err
	}
	return s, s.Phones.Open(ctx)
}

// wire makes the rooms of the service of what was opened.
func (s *Service) wire() {
	known := household.Options{Dir: s.Dir, Log: s.Log, Book: s.Book, Fleet: s.fleet, Vault: s.drivers.secrets,
		Tell: s.Changes.Tell, Look: s.looks.ask}
	for _, m := range s.Members {
		known.Own = append(known.Own, m.Name)
	}
	if s.Joined != nil {
		known.Away = s.Joined.Home.Yard
	}
	s.Phones = phones.New(phonesOf(s))
	known.Phone = s.Phones.Has
	s.Household = household.New(known)
	s.Destinations = Destinations{book: s.Book, drivers: &s.drivers, fleet: s.fleet, jobs: s.Jobs, devices: s.Devices}
	s.Trials = Trials{book: s.Book, fleet: s.fleet, devices: s.Devices}
	s.Bringing = bringing.New(bringing.Options{InForce: s.Book.PlanOrEmpty, Jobs: s.Jobs, Driver: s.drivers.get, Free: inbox.DiskFree,
		HandsOver: s.Phones.Has, Costs: s.mayCost,
		Devices: func() []bringing.Holder { return listed(s, func(d listedDevice) bringing.Holder { return d }) }})
	s.Room = &makingroom.Room{Options: makingroom.Options{InForce: s.Book.PlanOrEmpty, Jobs: s.Jobs, HandsOver: s.Phones.Has,
		Devices: func() []makingroom.Holder { return listed(s, func(d listedDevice) makingroom.Holder { return d }) }}}
	s.Library = &library.Library{Plan: s.Book.PlanOrEmpty, Devices: func() []library.Holder {
		return listed(s, func(d listedDevice) library.Holder { return d })
	}}
	s.Setup = &setup.Setup{Options: setup.Options{
		Dir: s.Dir, Book: s.Book, Jobs: s.Jobs, Doubts: s.Trials.Doubts, Keep: s.Destinations.keepSecrets,
		Forget: s.drivers.secrets.Remove, Tell: s.Changes.Tell,
		Device: func(name string) (setup.Device, bool) {
			d, is := s.Device(name)
			return draftOf{d.Machine, d.Told, d.Shows}, is
		},
		Joined: func() (names []string) {
			for _, m := range s.Household.Mirrors() {
				names = append(names, m.DeviceName())
			}
			return names
		},
	}}
	if len(known.Own) > 0 {
		s.Setup.First = known.Own[0]
	}
}

// openDevice opens the records of a device of this machine, and the device.
func (s *Service) openDevice(ctx context.Context, m Local) (*device.Device, error) {
	dir := filepath.Join(s.Dir, "devices", m.Name)
	r, err := records.Open(ctx, filepath.Join(dir, "records.db"))
	if err != nil {
		return nil, fmt.Errorf("device %s: %w", m.Name, err)
	}
	if err := takeOverMarkers(ctx, filepath.Join(s.Dir, "markers"), r); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	looks := s.Scan
	looks.MayEmpty = m.Inbox
	d, err := device.New(ctx, device.Options{
		Name: m.Name, Root: m.Root, Records: r, Sensor: m.Sensor, Driver: s.drivers.get, Changed: s.Changes.Tell,
		Log: s.Log, Scan: looks, Jitter: mathrand.Float64, Wait: s.Wait, Others: s.others, Faces: &s.faces,
		Renditions: filepath.Join(dir, "renditions"), Bursts: filepath.Join(dir, "bursts"), Awake: m.Awake,
		Volumes: m.Volumes,
	})
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	s.members.add(d, r)
	return d, nil
}

// inForce gives the devices a plan that was put in force.
func (s *Service) inForce(p *plan.Plan) {
	for _, d := range s.Devices() {
		d.SetPlan(p)
	}
	s.drivers.forget()
	s.Changes.Tell()
}

// takeOverMarkers tells a device's records which places the names of folders stood
// for, as an earlier version kept it: a file a name, with identity and path.
func takeOverMarkers(ctx context.Context, dir string, r *records.Records) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("taking over the markers: %w", err)
	}
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return fmt.Errorf("taking over the marker of %s: %w", e.Name(), err)
		}
		id, root, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
		if err := place.Bind(ctx, place.LedgerOf(r), e.Name(), id, root); err != nil {
			return err
		}
	}
	return nil
}

// Run runs the devices until the context ends; sends under way get a moment.
func (s *Service) Run(ctx context.Context) error {
	p, err := s.proving(ctx, "")
	if err == nil && p.Left > 0 { // ordered before the start
		_, err = s.followProofs("", p, p.Left)
	}
	if ctx.Err() != nil {
		return nil
	}
	if err != nil {
		return err
	}
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return s.members.follow(ctx) })
	if s.home != nil {
		g.Go(func() error { return s.home.agent.Run(ctx) })
	} else {
		g.Go(func() error { s.Household.Run(ctx); return nil })
		g.Go(func() error { s.lookAtClaims(ctx); return nil })
		g.Go(func() error { s.answer(ctx); return nil })
		g.Go(func() error { s.Phones.Run(ctx); return nil })
	}
	g.Go(func() error { s.drivers.watch(ctx); return nil })
	if s.Beside != nil {
		g.Go(func() error { return s.Beside(ctx, s) })
	}
	return g.Wait()
}

// Close lets go of the data directory.
func (s *Service) Close() error {
	s.Jobs.Close()
	s.faces.Close()
	if s.Library != nil {
		s.Library.Close()
	}
	err := s.drivers.close()
	if s.Phones != nil {
		err = errors.Join(err, s.Phones.Close())
	}
	err = errors.Join(err, s.members.close())
	if s.Household != nil {
		err = errors.Join(err, s.Household.Close())
	}
	return errors.Join(err, s.lock.Close())
}

// Devices are the devices of this process, and what stands for those elsewhere.
func (s *Service) Devices() []Device {
	all := s.own()
	if s.Household == nil { // it is being opened
		return all
	}
	for _, m := range s.Household.Mirrors() {
		all = append(all, ofElsewhere(m))
	}
	return all
}

// listedDevice is a device as who finds, brings back or makes room sees it.
type listedDevice struct {
	Machine
	Told
	Finds
	Orders
}

// mayCost tells whether the network of this computer may cost: that of the device that it is.
func (s *Service) mayCost(ctx context.Context) (bool, error) {
	own := s.own()
	if s.Standin != nil || len(own) == 0 { // simulated devices are not this computer
		return false, nil
	}
	st, err := own[0].Told.Status(ctx)
	return st.Conditions.MayCost(), err
}

// listed are the devices as a room of the service sees them that takes these parts.
func listed[H any](s *Service, as func(listedDevice) H) (list []H) {
	for _, d := range s.Devices() {
		list = append(list, as(listedDevice{d.Machine, d.Told, d.Finds, d.Orders}))
	}
	return list
}

// own are the devices of this process alone.
func (s *Service) own() []Device {
	all := s.members.all()
	own := make([]Device, len(all))
	for i, m := range all {
		own[i] = ofHere(m.Device)
	}
	return own
}

// Device finds one by name; ok is false when this process has none of it.
func (s *Service) Device(name string) (Device, bool) {
	all := s.Devices()
	i := slices.IndexFunc(all, func(d Device) bool { return d.DeviceName() == name })
	if i < 0 {
		return Device{}, false
	}
	return all[i], true
}

// ZoneOf is the time zone of a device.
func (s *Service) ZoneOf(device string) *time.Location { return s.Book.PlanOrEmpty().Zone(device) }

// Retry takes up again what is stuck on a device, the items named or all, and asks
// every destination for its space anew.
func (s *Service) Retry(ctx context.Context, d Device, items []string) (int64, error) {
	n, err := d.Orders.Retry(ctx, items)
	s.drivers.forget()
	return n, err
}

// Status tells how the yard stands.
func (s *Service) Status(ctx context.Context) (wire.Yard, error) {
	st, err := s.status(ctx)
	st.Says, st.Needs, st.Holds = headline(st.Devices), append(needs(st), s.Phones.Needs(time.Now())...), holds(st.Devices)
	return st, err
}

func (s *Service) status(ctx context.Context) (wire.Yard, error) {
	p := s.Book.Plan()
	_, version := s.Book.Text()
	st := wire.Yard{Plan: version, Time: time.Now(), Devices: []wire.Device{}, Absent: []string{},
		Destinations: []wire.DestinationStatus{}, Jobs: slices.DeleteFunc(s.Jobs.All(),
			func(j wire.Job) bool { return j.Kind == wire.JobLook }), Standin: s.Standin != nil, Home: s.home.status()}
	for _, d := range s.Devices() {
		one, err := d.Told.Status(ctx)
		if records.IsGone(err) {
			one, err = s.withoutRecords(d.DeviceName(), err), nil
		}
		if err != nil {
			return st, err
		}
		st.Devices = append(st.Devices, one)
	}
	if p == nil {
		st.Problem = "There is no plan yet. Add a destination, and a first plan is made with it: on the page " +
			"Destinations, or with yardtide destination add (a plan of your own: yardtide plan apply FILE)."
		return st, nil
	}
	st.Yard = p.Yard
	for name := range p.Devices {
		if _, here := s.Device(name); !here {
			st.Absent = append(st.Absent, name)
		}
	}
	slices.Sort(st.Absent)
	for _, d := range s.own() {
		if _, named := p.Devices[d.DeviceName()]; !named && !s.Phones.Has(d.DeviceName()) {
			st.Problem = fmt.Sprintf("The plan names no device %q, which is what this computer is called here. Name it so "+
				"under devices, or start the service with -device NAME.", d.DeviceName())
		}
	}
	for name, d := range p.Destinations {
		one, err := s.Destinations.status(ctx, name, d)
		if err != nil {
			return st, err
		}
		st.Destinations = append(st.Destinations, one)
	}
	slices.SortFunc(st.Destinations, func(a, b wire.DestinationStatus) int { return strings.Compare(a.Name, b.Name) })
	return st, nil
}

// withoutRecords is a device of this process whose records were removed under it, or lie on a
// disk that fails: the pages answer, and say so.
func (s *Service) withoutRecords(name string, why error) wire.Device {
	s.Log.Error("the records of a device cannot be read", "device", name, "err", why)
	return wire.Device{
		Name: name, Conditions: gate.Conditions{}.Sound(), Modem: gate.Unknown, States: map[queue.State]wire.Amount{},
		Kinds: []media.Kind{}, Beside: []wire.Beside{}, Doubles: []wire.Doubled{},
		Holds: []wire.HoldGroup{}, Sends: []wire.Send{}, Lanes: []wire.Lane{}, Sources: []wire.Source{},
		Problem: "The records of " + name + " cannot be read: they were removed, or their disk is full or fails. Make " +
			"room on the disk of the data directory, stop Yard Tide and start it again. What is at the storages is kept, " +
			"and nothing is sent that is there.",
	}
}

// Changes tells many listeners that something changed, without ever waiting
// for them. The zero value is ready.
type Changes struct {
	mu   sync.Mutex
	next chan struct{}
}

// Tell wakes everybody who waits.
func (c *Changes) Tell() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next != nil {
		close(c.next)
		c.next = nil
	}
}

// Next is closed at the next change.
func (c *Changes) Next() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next == nil {
		c.next = make(chan struct{})
	}
	return c.next
}
