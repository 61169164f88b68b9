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
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"yardtide/core/gate"
	"yardtide/core/naming"
	"yardtide/core/onvolume"
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
	"yardtide/engine/volume"
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
	// Volumes lists cards, cameras and phones on a cable; nil looks for none.
	Volumes volume.Lister
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

	moving    *burst.Maker
	places    *place.Places
	carrier   *carry.Carrier
	waking    waking
	sources   sources
	smaller   preparers
	strays    strays
	originals originals
	cards     *cards
	mending   mending
	upkeep    *upkeep.Upkeep
	rooms     rooms
	marks     marks
	pace      *rate.Limiter // of all sends

	mu     sync.Mutex
	plan   *plan.Plan
	zone   *time.Location
	now    gate.Conditions
	pause  gate.PauseState
	ready  bool       // the first conditions have come
	modem  gate.Known // whether it has one
	turns  int        // how often the plan, the conditions or the pause changed
	active map[int64]*carry.Send

	sending work.Crew // the sends
	beside  work.Crew // what is done beside the sends
	planned work.Bell // a new plan came
	wake    work.Bell // something changed: decide again
	freed   work.Bell // a sender is free
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
		Options: o, modem: gate.Unknown, pace: rate.NewLimiter(rate.Inf, carry.PaceStep), plan: &plan.Plan{}, zone: time.UTC,
		active:  map[int64]*carry.Send{},
		planned: work.NewBell(), wake: work.NewBell(), freed: work.NewBell(),
	}
	d.beside.Freed = d.changed
	d.waking = waking{device: o.Name, system: o.Awake, wait: o.Wait, log: o.Log}
	d.sources.d, d.mending.d, d.marks.d = d, d, d
	d.smaller = newPreparers(d)
	d.strays.d, d.originals.d, d.cards = d, d, newCards(d)
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
		Device: o.Name, Owner: owner, Records: place.LedgerOf(o.Records), Driver: o.Driver, Changed: d.changed,
		Tell: o.Changed, Log: o.Log, Jitter: o.Jitter, Wait: o.Wait,
	})
	if err != nil {
		return nil, err
	}
	forms := &rendition.Cache{Dir: o.Renditions}
	if err := forms.Clean(); err != nil {
		return nil, err
	}
	d.furnish(o, owner, forms)
	o.Others.Join(fleet.Member{Name: o.Name, Records: func() *records.Records { return o.Records },
		Counts: d.places.Counts, Wake: d.wake.Ring, Tell: o.Changed})
	return d, nil
}

// furnish gives the device its rooms: what carries, keeps up, shows and makes.
func (d *Device) furnish(o Options, owner string, forms *rendition.Cache) {
	d.carrier = &carry.Carrier{Options: carry.Options{
		Device: o.Name, Owner: owner, Folder: d.Folder, Away: d.sources.away, Records: o.Records, Places: d.places,
		Others: o.Others, Plan: d.currentPlan, Outside: d.outside, Pace: d.pace, Forms: forms,
		Recorded: func(ctx context.Context, name string) error {
			return d.upkeep.KnowOthers(ctx, name)
		},
		Tell: o.Changed, Freed: d.freed.Ring, Broken: d.mending.broke, Log: o.Log, Jitter: o.Jitter, Wait: o.Wait,
	}}
	d.upkeep = upkeep.New(upkeep.Options{
		Device: o.Name, Owner: owner, Folder: owner, Records: o.Records, Places: d.places, Others: o.Others,
		Outlook: d.outlook, Sending: d.sendsTo, Beside: &d.beside,
		Changed: d.changed, Tell: o.Changed, Wait: o.Wait, Log: o.Log,
	})
	own := []string{o.Renditions, o.Bursts}
	if o.Faces != nil {
		own = append(own, o.Faces.Dir)
	}
	d.Shows = show.New(show.Options{Own: own,
		Device: o.Name, Root: o.Root, Records: o.Records, Faces: o.Faces, Folder: d.Folder, Plan: d.currentPlan,
		Sending: d.isSending,
		Places:  func(p *plan.Plan) func(os.FileInfo) bool { return d.sources.scanOptions(p).Place },
	})
	d.rooms = rooms{d: d, maker: newRoomMaker(d)}
	d.moving = &burst.Maker{Options: burst.Options{
		Device: o.Name, Dir: o.Bursts, Renditions: o.Renditions, Records: o.Records, Show: d.Shows, Folder: d.Folder,
		Plan: d.currentPlan, Counts: d.places.Counts, Beside: &d.beside, Wait: o.Wait, Log: o.Log,
	}}
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
	d.rooms.anew()
	d.planned.Ring()
}

// Run works until the context ends; sends under way then get the grace time.
func (d *Device) Run(ctx context.Context) error {
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return d.sense(ctx) })
	g.Go(func() error { d.noteRun(ctx); return nil })
	g.Go(func() error { return d.sources.follow(ctx) })
	g.Go(func() error { return d.dispatch(ctx) })
	g.Go(func() error { return d.cards.follow(ctx) })
	g.Go(func() error { return d.strays.watch(ctx) })
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

// Folder is where a source lies on this machine. One on a volume that is away lies nowhere: at a path that is not there.
func (d *Device) Folder(source string) string {
	if id, below, is := onvolume.Of(source); is {
		root := d.cards.root(id)
		if root == "" {
			root = filepath.Join(d.Root, onvolume.Folder(id)+" is away")
		}
		return filepath.Join(root, filepath.FromSlash(below))
	}
	return role.Folder(d.Root, source)
}

func (d *Device) currentPlan() *plan.Plan {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.plan
}
