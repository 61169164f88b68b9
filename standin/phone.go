package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/sensor"
	"yardtide/engine/volume"
)

// Phone is a simulated device: a gallery folder, and conditions that are set by hand or
// follow its day. One that runs in a process of its own reads them from a file.
type Phone struct {
	Name   string
	Root   string // its storage
	Camera string // the folder of its pictures, below Root
	Modem  gate.Known
	Day    []Moment
	File   string // with its conditions, "" for one in this process
	Sensor sensor.Set
	Card   volume.Volume // a card that can be put into it; none without an identity

	mu      sync.Mutex
	cardIn  bool
	follows bool
	now     gate.Conditions
	taken   int
}

// Moment is what a device senses from a time of day on.
type Moment struct {
	From time.Duration // since midnight
	Now  gate.Conditions
}

func wifi(name string, metered gate.Known) gate.Conditions {
	return gate.Conditions{Network: plan.WiFi, NetworkName: name, Metered: metered, Roaming: gate.No}
}

var (
	home    = wifi("Saltmarsh Slip", gate.No)
	cafe    = wifi("Harbour Café", gate.Yes)
	road    = gate.Conditions{Network: plan.Cellular, Metered: gate.Yes, Roaming: gate.No}
	abroad  = gate.Conditions{Network: plan.Cellular, Metered: gate.Yes, Roaming: gate.Yes}
	nowhere = gate.Conditions{Network: plan.NoNetwork, Metered: gate.No, Roaming: gate.No}
	cable   = gate.Conditions{Network: plan.Wired, Metered: gate.No, Roaming: gate.No}
)

// with is a place with a battery, a charger and somebody who uses the device or not.
func with(place gate.Conditions, battery int, charging gate.Known, use gate.Use) gate.Conditions {
	place.Battery, place.Charging, place.Use = battery, charging, use
	place.Screen, place.Saver = gate.Is(use == gate.InUse), gate.Is(battery >= 0 && battery < 20 && charging == gate.No)
	return place
}

func hour(h float64) time.Duration { return time.Duration(h * float64(time.Hour)) }

// The days of the demo's devices: a night on the charger, the road, the yard by the water
// where no network reaches, the harbour café, and home again.
var (
	phoneDay = []Moment{
		{0, with(home, 100, gate.Yes, gate.NotInUse)}, {hour(6.5), with(home, 100, gate.No, gate.InUse)}, {hour(8),
			with(road, 94, gate.No, gate.InUse)},
		{hour(8.75), with(nowhere, 88, gate.No, gate.NotInUse)}, {hour(12.5), with(cafe, 66, gate.No, gate.InUse)},
		{hour(13.5), with(nowhere, 58, gate.No, gate.NotInUse)},
		{hour(16), with(road, 44, gate.No, gate.InUse)}, {hour(17), with(home, 38, gate.No, gate.InUse)}, {hour(22.25),
			with(home, 17, gate.Yes, gate.NotInUse)},
	}
	secondDay = []Moment{
		{0, with(home, 81, gate.Yes, gate.NotInUse)}, {hour(7), with(home, 100, gate.No, gate.InUse)}, {hour(9),
			with(abroad, 90, gate.No, gate.InUse)},
		{hour(11), with(cafe, 70, gate.No, gate.InUse)}, {hour(14), with(road, 41, gate.No, gate.NotInUse)}, {hour(18.5),
			with(home, 15, gate.No, gate.InUse)}, {hour(20), with(home, 22, gate.Yes, gate.InUse)},
		{hour(23), with(home, 74, gate.Yes, gate.NotInUse)},
	}
	tabletDay = []Moment{
		{0, with(home, 64, gate.No, gate.NotInUse)}, {hour(8), with(nowhere, 60, gate.No, gate.InUse)}, {hour(18),
			with(home, 32, gate.No, gate.InUse)}, {hour(21), with(home, 35, gate.Yes, gate.NotInUse)},
	}
	deskDay = []Moment{
		{0, with(cable, -1, gate.Yes, gate.NotInUse)}, {hour(9), with(cable, -1, gate.Yes, gate.InUse)}, {hour(12),
			with(cable, -1, gate.Yes, gate.NotInUse)},
		{hour(18), with(cable, -1, gate.Yes, gate.InUse)}, {hour(21.5), with(cable, -1, gate.Yes, gate.NotInUse)},
	}
	laptopDay = []Moment{
		{0, with(nowhere, 52, gate.No, gate.NotInUse)}, {hour(9), with(cafe, 50, gate.Yes, gate.InUse)}, {hour(12),
			with(nowhere, 77, gate.No, gate.NotInUse)},
		{hour(15), with(cable, 70, gate.Yes, gate.InUse)}, {hour(19), with(home, 96, gate.No, gate.InUse)},
	}
)

// Set sets the conditions by hand; it follows its day no more.
func (p *Phone) Set(c gate.Conditions) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.follows = false
	return p.put(c)
}

// put sets the conditions. The caller has the lock.
func (p *Phone) put(c gate.Conditions) error {
	p.now = c
	if p.File == "" {
		p.Sensor.Put(c)
		return nil
	}
	text, err := json.Marshal(struct {
		gate.Conditions
		Modem   gate.Known      `json:"modem"`
		Volumes []volume.Volume `json:"volumes"`
	}{c, p.Modem, p.volumes()})
	if err == nil {
		err = os.WriteFile(p.File+".new", text, 0o644)
	}
	if err == nil {
		err = os.Rename(p.File+".new", p.File)
	}
	if err != nil {
		return fmt.Errorf("setting what %s senses: %w", p.Name, err)
	}
	return nil
}

// volumes are the cards that are in it. The caller has the lock.
func (p *Phone) volumes() []volume.Volume {
	if !p.cardIn {
		return []volume.Volume{}
	}
	return []volume.Volume{p.Card}
}

// PutCard puts its card in, or pulls it out.
func (p *Phone) PutCard(in bool) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.File == "" || p.Card.ID == "" {
		return fmt.Errorf("%s has no reader for cards", p.Name)
	}
	p.cardIn = in
	return p.put(p.now)
}

// CardIn tells whether its card is in; able is false where it has none.
func (p *Phone) CardIn() (in, able bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.cardIn, p.File != "" && p.Card.ID != ""
}

// Now is what it senses, and whether it follows its day.
func (p *Phone) Now() (c gate.Conditions, follows bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.now, p.follows
}

// Follow lets it follow its day, from the time that it is there.
func (p *Phone) Follow(at time.Duration) error {
	p.mu.Lock()
	p.follows = true
	p.mu.Unlock()
	return p.live(at)
}

// live has it sense what it does at a time of its day, if it follows that.
func (p *Phone) live(at time.Duration) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.follows || len(p.Day) == 0 {
		return nil
	}
	now := p.Day[0].Now
	for _, m := range p.Day {
		if m.From <= at {
			now = m.Now
		}
	}
	if now == p.now {
		return nil
	}
	return p.put(now)
}

// TakePicture puts a new picture into the gallery.
func (p *Phone) TakePicture(now time.Time) error {
	p.mu.Lock()
	p.taken++
	n := p.taken
	p.mu.Unlock()
	content, err := JPEG(1000+int(now.Unix()%1000)+n, 1200, now)
	if err != nil {
		return err
	}
	name := filepath.Join(p.Root, p.Camera, fmt.Sprintf("IMG_%s_%d.jpg", now.Format("20060102_150405"), n))
	if err := errors.Join(os.MkdirAll(filepath.Dir(name), 0o755), os.WriteFile(name, content, 0o644)); err != nil {
		return fmt.Errorf("taking a picture: %w", err)
	}
	return nil
}
