// Package device runs one device: it scans the sources, decides by class, and has what
// may go carried (carry) and what falls due at its places done (upkeep). It is the
// authority on its items and copies and knows no interface: the service calls its
// methods.
//
// These always hold:
//   - a copy is called safe only after what lies at its place, put there before,
//     has the hash of its content, by the storage's own word or read back;
//   - a proof counts for the place that the destination's name stands for, and for
//     no other;
//   - before something is written at a destination, the records know its name;
//   - metered bytes are reserved before they leave; a proof is never read back
//     over a network that costs, but for small copies, where that is reserved, too;
//   - nothing is removed at a destination but a small copy that has the very bytes that
//     were put there, once its whole is proven;
//   - when a gate shuts, what goes through it stops.
package device

import (
	"context"
	crand "crypto/rand"
	"encoding/hex"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"yardtide/core/gate"
	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/engine/awake"
	"yardtide/engine/burst"
	"yardtide/engine/carry"
	"yardtide/engine/destination"
	"yardtide/engine/face"
	"yardtide/engine/fleet"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/engine/rendition"
	"yardtide/engine/role"
	"yardtide/engine/scan"
	"yardtide/engine/sensor"
	"yardtide/engine/show"
	"yardtide/engine/tell"
	"yardtide/engine/upkeep"
	"yardtide/engine/work"
)

// Options make a device. All fields but the last six are needed.
type Options struct {
	Name    string
	Root    string // relative folders of sources lie below it
	Records *records.Records
	Sensor  sensor.Sensor
	// Driver gives the driver of a destination in the plan. It is asked for
	// every send, and may answer the same one to several devices.
	Driver func(name string) (destination.Driver, error)
	// Changed is called, often and from anywhere, when something that Status
	// or a page tells may have changed. It must not block.
	Changed func()
	Log     *slog.Logger
	Scan    scan.Options
	Grace   time.Duration                     // how long sends may end after a stop, 3 s
	Jitter  func() float64                    // in [0,1)
	Wait    func(time.Duration) time.Duration // stretches or shortens waits
	Others  Others                            // a fleet of its own without
	Faces   *face.Cache                       // small pictures of items
	// Renditions is the folder of what is made of items that do not go as shot.
	Renditions string
	// Bursts is the folder of moving pictures that are made of shots in a row; "" makes none.
	Bursts string
	Awake  awake.System // keeps this machine awake; nil where that is another's
}

// Others is what a device knows of the others: the fleet of this process, or what asks
// across a network.
type Others interface {
	carry.Others
	upkeep.Others
	// Join takes the device in.
	Join(m fleet.Member)
	// Left is how many bytes may still go to a destination that keeps some free, -1 when
	// nobody knows; Take reserves room, false when it is not there, and Give ends that.
	Left(destination string, keep int64) int64
	// Room is how many there is room for in all, whoever it was given to.
	Room(destination string, keep int64) int64
	Take(destination string, bytes, keep int64) bool
	Give(destination string, bytes int64, landed bool)
}

var _ Others = (*fleet.Fleet)(nil)

// Device is one device. Its methods are safe for concurrent use.
type Device struct {
	Options
	Told   Told
	Shows  *show.Show
	Orders Orders

	moving  *burst.Maker
	places  *place.Places
	carrier *carry.Carrier
	waking  waking
	upkeep  *upkeep.Upkeep
	pace    *rate.Limiter // of all sends

	mu      sync.Mutex
	plan    *plan.Plan
	applied *plan.Plan // what the records are in line with: nothing begins before that is the plan
	zone    *time.Location
	now     gate.Conditions
	pause   gate.PauseState
	ready   bool       // the first conditions have come
	modem   gate.Known // whether it has one
	turns   int        // how often the plan, the conditions or the pause changed
	active  map[int64]*carry.Send
	// preparing are the items that are made smaller, with the copies that wait for it.
	preparing map[int64]*preparing
	reading   bool // marks of items
	sources   map[string]*scanned
	problem   string    // why the device itself cannot work
	broken    time.Time // the records could not be written: when they are tried again

	beside  sync.WaitGroup // sends, and what is done beside them
	planned work.Bell      // a new plan came
	wake    work.Bell      // something changed: decide again
	freed   work.Bell      // a sender is free
}

// scanned is what is known of one scan.
type scanned struct {
	problems []scan.Problem
	at       time.Time
}

// New makes a device and reads what it kept of its state.
func New(ctx context.Context, o Options) (*Device, error) {
	if o.Others == nil {
		o.Others = &fleet.Fleet{}
	}
	if o.Wait == nil {
		o.Wait = func(w time.Duration) time.Duration { return w }
	}
	if o.Jitter == nil {
		o.Jitter = rand.Float64
	}
	if o.Grace == 0 {
		o.Grace = 3 * time.Second
	}
	d := &Device{
		Options: o, modem: gate.Unknown, pace: rate.NewLimiter(rate.Inf, carry.PaceStep), plan: &plan.Plan{}, zone: time.UTC, active: map[int64]*carry.Send{}, preparing: map[int64]*preparing{}, sources: map[string]*scanned{},
		planned: work.NewBell(), wake: work.NewBell(), freed: work.NewBell(),
	}
	d.Told, d.Orders = Told{tell.Teller{Of: o.Name, From: o.Records, Beside: d.Known}, d}, Orders{d}
	var err error
	if d.pause, _, err = pauseFact.Read(ctx, &o.Records.Facts); err != nil {
		return nil, err
	}
	if d.now, _, err = conditionsFact.Read(ctx, &o.Records.Facts); err != nil {
		return nil, err
	}
	mark, err := readMark(ctx, o.Records)
	if err != nil {
		return nil, err
	}
	// With the mark, two services with a device of one name never meet at a storage.
	owner := naming.Safe(o.Name) + "-" + mark
	d.places, err = place.New(ctx, place.Options{
		Device: o.Name, Owner: owner, Records: place.LedgerOf(o.Records), Driver: o.Driver, Changed: d.changed, Tell: o.Changed, Log: o.Log, Jitter: o.Jitter, Wait: o.Wait,
	})
	if err != nil {
		return nil, err
	}
	forms := &rendition.Cache{Dir: o.Renditions}
	if err := forms.Clean(); err != nil {
		return nil, err
	}
	d.carrier = &carry.Carrier{Options: carry.Options{
		Device: o.Name, Owner: owner, Folder: d.Folder, Records: o.Records, Places: d.places, Others: o.Others, Plan: d.currentPlan, Outside: d.outside, Pace: d.pace, Forms: forms, Recorded: func(ctx context.Context, name string) error { return d.upkeep.KnowOthers(ctx, name) },
		Tell: o.Changed, Freed: d.freed.Ring, Broken: d.unrecorded, Log: o.Log, Jitter: o.Jitter, Wait: o.Wait,
	}}
	d.upkeep = upkeep.New(upkeep.Options{
		Device: o.Name, Owner: owner, Folder: owner, Records: o.Records, Places: d.places, Others: o.Others, Outlook: d.outlook, Sending: d.sendsTo, Go: d.beside.Go,
		Changed: d.changed, Tell: o.Changed, Wait: o.Wait, Log: o.Log,
	})
	d.Shows = show.New(show.Options{
		Device: o.Name, Root: o.Root, Records: o.Records, Faces: o.Faces, Folder: d.Folder, Plan: d.currentPlan, Sending: d.isSending,
		Places: func(p *plan.Plan) func(os.FileInfo) bool { return d.scanOptions(p).Place },
	})
	d.moving = &burst.Maker{Options: burst.Options{
		Device: o.Name, Dir: o.Bursts, Renditions: o.Renditions, Records: o.Records, Show: d.Shows, Folder: d.Folder, Plan: d.currentPlan, Counts: d.places.Counts, Go: d.beside.Go, Wait: o.Wait, Log: o.Log,
	}}
	o.Others.Join(fleet.Member{Name: o.Name, Records: func() *records.Records { return o.Records }, Counts: d.places.Counts, Wake: d.wake.Ring, Tell: o.Changed})
	return d, nil
}

// What a device keeps of itself beside its items.
const (
	markFact       records.Fact[string]          = "mark"
	pauseFact      records.Fact[gate.PauseState] = "pause"
	conditionsFact records.Fact[gate.Conditions] = "conditions"
)

// readMark reads what tells the device from others of its name, making it at the
// first start.
func readMark(ctx context.Context, r *records.Records) (string, error) {
	mark, known, err := markFact.Read(ctx, &r.Facts)
	if err != nil || known {
		return mark, err
	}
	b := make([]byte, 4)
	_, _ = crand.Read(b) // it never fails (crypto/rand)
	mark = hex.EncodeToString(b)
	return mark, markFact.Keep(ctx, &r.Facts, mark)
}

// DeviceName is what the plan calls the device.
func (d *Device) DeviceName() string { return d.Name }

// setPace lets the sends go as fast as the plan allows now. It returns when
// that may change.
func (d *Device) setPace(now time.Time) time.Time {
	d.mu.Lock()
	limits, zone := d.plan.Devices[d.Name].Limit, d.plan.Zone(d.Name)
	d.mu.Unlock()
	limit := rate.Inf
	if perSecond := limits.RateAt(now, zone); perSecond > 0 {
		limit = rate.Limit(perSecond)
	}
	if d.pace.Limit() != limit {
		d.pace.SetLimit(limit)
	}
	if len(limits) == 0 {
		return time.Time{}
	}
	return now.Truncate(time.Minute).Add(time.Minute) // hours are of whole minutes
}

// SetPlan gives the device a plan. It takes effect at once: what it does not ask for is
// cut, and nothing begins before the records are in line with it.
func (d *Device) SetPlan(p *plan.Plan) {
	p = d.moving.With(p.On(d.Name))
	d.mu.Lock()
	d.plan, d.zone = p, p.Zone(d.Name)
	d.turns++
	d.places.SetPlan(p)
	d.stopUnwanted(p)
	d.mu.Unlock()
	d.planned.Ring()
}

// Run works until the context ends; sends under way then get the grace time.
func (d *Device) Run(ctx context.Context) error {
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return d.sense(ctx) })
	g.Go(func() error { d.noteRun(ctx); return nil })
	g.Go(func() error { return d.follow(ctx) })
	g.Go(func() error { return d.dispatch(ctx) })
	if err := g.Wait(); err != nil {
		return fmt.Errorf("device %s: %w", d.Name, err)
	}
	return nil
}

// runBeat is how often it is noted that the program runs still.
const runBeat = time.Minute

// noteRun keeps when the program runs: where it is stopped from outside, that shows.
func (d *Device) noteRun(ctx context.Context) {
	id, err := d.Records.Journal.BeginRun(ctx, time.Now())
	if err != nil {
		d.Log.Error("the run could not be noted", "device", d.Name, "err", err)
		return
	}
	tick := time.NewTicker(runBeat)
	defer tick.Stop()
	for ends := false; !ends; {
		select {
		case <-ctx.Done():
			ends = true
		case <-tick.C:
		}
		if err := d.Records.Journal.SeeRun(context.WithoutCancel(ctx), id, time.Now(), ends); err != nil {
			d.Log.Error("the run could not be noted", "device", d.Name, "err", err)
		}
	}
}

func (d *Device) changed() {
	d.wake.Ring()
	d.Changed()
}

// sense follows the sensor.
func (d *Device) sense(ctx context.Context) error {
	err := d.Sensor.Watch(ctx, func(c gate.Conditions) {
		modem := sensor.Modem(d.Sensor)
		d.mu.Lock()
		d.modem = modem
		d.now = c.Stamp(d.now, time.Now())
		d.turns++
		d.ready = true
		now := d.now
		d.mu.Unlock()
		err := conditionsFact.Keep(ctx, &d.Records.Facts, now)
		if err == nil {
			err = d.Records.Journal.Sense(ctx, now, time.Now())
		}
		if err != nil && ctx.Err() == nil {
			d.Log.Error("the conditions could not be kept", "device", d.Name, "err", err)
		}
		d.changed()
	})
	if err != nil {
		return fmt.Errorf("the sensor failed: %w", err)
	}
	return nil
}

// follow brings the records in line with each plan and scans its sources. A scan that hangs
// keeps its own source only: the next plan is followed without it.
func (d *Device) follow(ctx context.Context) error {
	running := map[string]chan struct{}{} // scans, by the folder on this machine; closed when they end
	stop := func() {}
	defer func() {
		stop()
		if left := d.ended(running); len(left) > 0 {
			d.Log.Error("a scan does not end; it is left behind", "device", d.Name, "folders", len(left))
		}
	}()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-d.planned:
		}
		stop()
		running = d.ended(running)
		p := d.currentPlan()
		for err := d.Records.Catalogue.Apply(ctx, p, d.Name, time.Now()); err != nil; err = d.Records.Catalogue.Apply(ctx, p, d.Name, time.Now()) {
			if !d.rest(ctx, "the plan could not be applied", err) {
				return nil
			}
		}
		scanCtx, cancel := context.WithCancel(ctx)
		stop = cancel
		sources := map[string]*scanned{}
		options, all := d.scanOptions(p), p.Devices[d.Name].Sources
		for _, s := range all {
			sources[s.Folder] = &scanned{}
		}
		d.mu.Lock()
		d.sources, d.applied = sources, p
		d.mu.Unlock()
		d.changed() // what was found before may go
		resolved := d.resolve(all)
		for i, s := range all {
			if other, doubled := doubled(resolved, i); doubled {
				d.setProblems(s.Folder, scan.Problem{Path: d.Folder(s.Folder), Says: fmt.Sprintf("This folder and the source %s are one, or lie in one another: it is taken up there.", all[other].Folder), Todo: "Take one of them out of the plan."})
				continue
			}
			path := d.Folder(s.Folder)
			before, done := running[path], make(chan struct{})
			running[path] = done
			go func() {
				defer close(done)
				d.scanSource(scanCtx, p, s, options, before)
			}()
		}
	}
}

// ended waits a moment for scans that were stopped, and returns those that go on.
func (d *Device) ended(running map[string]chan struct{}) map[string]chan struct{} {
	left := map[string]chan struct{}{}
	limit := time.NewTimer(d.Grace)
	defer limit.Stop()
	over := false
	for folder, done := range running {
		if !over {
			select {
			case <-done:
			case <-limit.C:
				over = true
			}
		}
		select {
		case <-done:
		default:
			left[folder] = done
		}
	}
	return left
}

// silentAfter is how long a source has to answer before it is told that it does not.
const silentAfter = 10 * time.Second

// scanSource scans a source until the context ends, once an earlier scan of the same folder has
// ended. While the folder does not answer, the page says so.
func (d *Device) scanSource(ctx context.Context, p *plan.Plan, s plan.Source, options scan.Options, before <-chan struct{}) {
	path := d.Folder(s.Folder)
	silent := time.AfterFunc(d.Wait(silentAfter), func() {
		if ctx.Err() == nil {
			d.setProblems(s.Folder, scan.Problem{Path: path, Says: "The folder does not answer.", Todo: "Look at its disk or network share. What was found before is kept; it goes on by itself."})
		}
	})
	defer silent.Stop()
	if before != nil {
		select {
		case <-before:
		case <-ctx.Done():
			<-before // whoever follows this scan waits for that one, too
			return
		}
	}
	_, _ = os.Stat(path) // a folder that hangs keeps this call; what is wrong with it the scan tells
	if !silent.Stop() {
		d.setProblems(s.Folder)
	}
	b := book{d, s, p, p.Chooser(s, p.Zone(d.Name)), p.Zone(d.Name)}
	options.Hidden = s.Hidden
	for {
		err := scan.Run(ctx, path, b, options)
		if err == nil || ctx.Err() != nil {
			return
		}
		if !d.rest(ctx, "a scan failed", err) {
			return
		}
	}
}

// setProblems notes what is wrong with a source of the plan that is followed.
func (d *Device) setProblems(folder string, problems ...scan.Problem) {
	d.mu.Lock()
	if s := d.sources[folder]; s != nil {
		s.problems = problems
	}
	d.mu.Unlock()
	d.Changed()
}

// stopUnwanted cuts what is on its way and the plan does not ask for, or sends
// elsewhere. The caller has the lock.
func (d *Device) stopUnwanted(p *plan.Plan) {
	for _, s := range d.active {
		if c := s.Copy(); !p.Wants(d.Name, c.Source, c.Found(), c.Destination, c.Shelf) {
			s.Cut(carry.ErrUnwanted)
		} else if p.Destinations[c.Destination].Where() != s.Where {
			s.Cut(carry.ErrMoved)
		}
	}
}

// sendsTo tells whether something is on its way to a destination.
func (d *Device) sendsTo(name string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.active {
		if s.Copy().Destination == name {
			return true
		}
	}
	return false
}

// isSending tells whether something is being sent.
func (d *Device) isSending() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.active) > 0
}

// scanOptions are those of every scan under a plan: places that copies go to are
// not taken up.
func (d *Device) scanOptions(p *plan.Plan) scan.Options {
	o := d.Scan
	o.Marker = destination.MarkerName
	var places []*asked
	for _, dest := range p.Destinations {
		if dest.Kind == plan.Folder {
			places = append(places, &asked{folder: dest.Path})
		}
	}
	o.Place = func(info fs.FileInfo) bool {
		return slices.ContainsFunc(places, func(a *asked) bool {
			there := a.now()
			return there != nil && os.SameFile(info, there)
		})
	}
	return o
}

// resolved is where a source lies once every link is followed; info is nil where there is
// nothing, or it does not answer.
type resolved struct {
	path string
	info fs.FileInfo
}

// resolve follows the links of sources, each by itself: one that hangs keeps none of the others.
func (d *Device) resolve(sources []plan.Source) []resolved {
	list := make([]resolved, len(sources))
	var wait sync.WaitGroup
	for i, s := range sources {
		path := d.Folder(s.Folder)
		wait.Go(func() {
			is, ok := answered(answerTime, func() resolved {
				own := path
				if followed, err := filepath.EvalSymlinks(path); err == nil {
					own = followed
				}
				info, err := os.Stat(own)
				if err != nil {
					info = nil
				}
				return resolved{filepath.ToSlash(own), info}
			})
			if !ok {
				is = resolved{path: filepath.ToSlash(path)}
			}
			list[i] = is
		})
	}
	wait.Wait()
	return list
}

// doubled tells which of the sources before one is the same folder, or lies with it in one
// another, however they are spelled and linked.
func doubled(all []resolved, i int) (other int, is bool) {
	own := all[i]
	for k, there := range all[:i] {
		if plan.Inside(own.path, there.path) || plan.Inside(there.path, own.path) || own.info != nil && there.info != nil && os.SameFile(own.info, there.info) {
			return k, true
		}
	}
	return 0, false
}

// Folder is where a source lies on this machine.
func (d *Device) Folder(source string) string {
	return role.Folder(d.Root, source)
}

func (d *Device) currentPlan() *plan.Plan {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.plan
}

// rest waits after a failure of the device's own records or disk, and shows
// it; false when the context ended.
func (d *Device) rest(ctx context.Context, what string, err error) bool {
	if ctx.Err() != nil {
		return false
	}
	d.unrecorded(what, err)
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d.Wait(recordsWait)):
		return true
	}
}

// recordsWait is how long the records rest after they could not be written.
const recordsWait = 5 * time.Second

// unrecorded shows that the records could not be written and lets nothing new
// begin for a while.
func (d *Device) unrecorded(what string, err error) {
	d.mu.Lock()
	if d.problem == "" {
		d.Log.Error(what, "device", d.Name, "err", err)
	}
	d.problem = "Yard Tide cannot keep its records: " + err.Error() + ". Make room on the disk of the data directory and allow writing to it; it goes on by itself."
	if records.IsDamage(err) {
		d.problem = "The records of " + d.Name + " are damaged, and nothing is sent until they are rebuilt: stop Yard Tide and run: yardtide rebuild. What is at the storages is kept, and nothing is sent that is there."
	}
	d.broken = time.Now().Add(d.Wait(recordsWait))
	d.mu.Unlock()
	d.Changed()
}

// mendRecords tries the records again after they could not be written, and
// takes up what could not be recorded. It returns when to try next, zero when
// all is well.
func (d *Device) mendRecords(ctx context.Context, now time.Time) (time.Time, error) {
	d.mu.Lock()
	until := d.broken
	var carried []int64
	for id := range d.active {
		carried = append(carried, id)
	}
	d.mu.Unlock()
	if until.IsZero() || now.Before(until) {
		return until, nil
	}
	if err := d.Records.Queue.TakeUp(ctx, carried, now); err != nil {
		return time.Time{}, err
	}
	d.recovered()
	return time.Time{}, nil
}

func (d *Device) recovered() {
	d.mu.Lock()
	was := d.problem
	d.problem, d.broken = "", time.Time{}
	d.mu.Unlock()
	if was != "" {
		d.Changed()
	}
}
