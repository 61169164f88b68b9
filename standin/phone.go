package standin

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/sensor"
)

// Phone is a simulated phone: a gallery folder and a sensor that is set by
// hand or follows a timeline.
type Phone struct {
	Name     string
	Root     string // its storage; the gallery is DCIM/Camera below it
	Sensor   sensor.Set
	Timeline []Moment

	mu      sync.Mutex
	follows bool
	stop    context.CancelFunc
	done    chan struct{}
	taken   int
}

// Moment is a step of a timeline.
type Moment struct {
	For time.Duration // how long it lasts
	Now gate.Conditions
}

// A day of a phone, told in minutes: home, out, abroad, home again.
var day = []Moment{
	{20 * time.Second, gate.Conditions{Network: plan.WiFi, Roaming: gate.No, Charging: gate.No, Metered: gate.No, Battery: 71, Use: gate.NotInUse}},
	{20 * time.Second, gate.Conditions{Network: plan.Cellular, Roaming: gate.No, Charging: gate.No, Metered: gate.Yes, Battery: 66, Use: gate.InUse}},
	{15 * time.Second, gate.Conditions{Network: plan.NoNetwork, Roaming: gate.No, Charging: gate.No, Metered: gate.No, Battery: 58, Use: gate.InUse}},
	{15 * time.Second, gate.Conditions{Network: plan.Cellular, Roaming: gate.Yes, Charging: gate.No, Metered: gate.Yes, Battery: 44, Use: gate.InUse}},
	{15 * time.Second, gate.Conditions{Network: plan.WiFi, Roaming: gate.No, Charging: gate.No, Metered: gate.No, Battery: 31, Use: gate.InUse}},
	{60 * time.Second, gate.Conditions{Network: plan.WiFi, Roaming: gate.No, Metered: gate.No, Battery: 38, Charging: gate.Yes, Use: gate.NotInUse}},
}

// Set sets the conditions by hand; a timeline that runs is left.
func (p *Phone) Set(c gate.Conditions) {
	p.halt()
	p.Sensor.Put(c)
}

// Follows tells whether the timeline runs.
func (p *Phone) Follows() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.follows
}

// Follow runs the timeline from its start.
func (p *Phone) Follow() {
	p.halt()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	p.mu.Lock()
	p.follows, p.stop, p.done = true, cancel, done
	p.mu.Unlock()
	go func() {
		defer close(done)
		for _, m := range p.Timeline {
			p.Sensor.Put(m.Now)
			select {
			case <-ctx.Done():
				return
			case <-time.After(m.For):
			}
		}
		p.mu.Lock()
		p.follows = false
		p.mu.Unlock()
	}()
}

// halt ends the timeline and waits for it.
func (p *Phone) halt() {
	p.mu.Lock()
	stop, done := p.stop, p.done
	p.stop, p.done, p.follows = nil, nil, false
	p.mu.Unlock()
	if stop != nil {
		stop()
		<-done
	}
}

// Close ends the timeline.
func (p *Phone) Close() { p.halt() }

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
	name := filepath.Join(p.Root, "DCIM", "Camera", fmt.Sprintf("IMG_%s_%d.jpg", now.Format("20060102_150405"), n))
	if err := os.WriteFile(name, content, 0o644); err != nil {
		return fmt.Errorf("taking a picture: %w", err)
	}
	return nil
}
