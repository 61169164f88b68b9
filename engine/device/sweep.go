package device

import (
	"context"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/records"
)

// sweepWait is how long a destination rests after a sweep that failed.
const sweepWait = time.Minute

// tempLife is how long a part of a file may lie at a destination while its copy
// waits to go on.
const tempLife = 20 * time.Hour

// sweep removes temporary files of copies that rest: their last try could not
// clean up, as the storage was away or the network cost. It runs beside sends
// and ends with them. It returns when to look again after a failure.
func (d *Device) sweep(ctx, sendCtx context.Context, now time.Time) (next time.Time, err error) {
	d.mu.Lock()
	var names []string
	for name, dest := range d.plan.Destinations {
		after, t := d.sweepAfter[name], d.troubles[name]
		shut := dest.Networked() && (d.now.Costs() || d.now.Network == plan.NoNetwork) || d.pause.Active(now) || t != nil && now.Before(t.until)
		switch {
		case d.sweeping[name] || shut:
		case now.Before(after):
			next = gate.Earlier(next, after)
		default:
			names = append(names, name)
		}
	}
	d.mu.Unlock()
	for _, name := range names {
		left, err := d.Records.Temps(ctx, name, now.Add(-tempLife))
		if err != nil {
			return next, err
		}
		if len(left) == 0 {
			continue
		}
		d.mu.Lock()
		d.sweeping[name] = true
		d.mu.Unlock()
		d.sends.Go(func() {
			err := d.removeTemps(sendCtx, name, left)
			d.mu.Lock()
			d.sweeping[name] = false
			if err != nil {
				d.sweepAfter[name] = time.Now().Add(d.Wait(sweepWait))
			}
			d.mu.Unlock()
			if err != nil {
				d.Log.Warn("temporary files are left for now", "device", d.Name, "destination", name, "err", err)
			}
			d.changed()
		})
	}
	return next, nil
}

func (d *Device) removeTemps(ctx context.Context, name string, left []records.Copy) error {
	driver, err := d.Driver(name)
	if err != nil {
		return err
	}
	for _, c := range left {
		if err := driver.Remove(ctx, c.Temp); err != nil {
			return err
		}
		if err := d.Records.Note(context.WithoutCancel(ctx), c.ID, "", c.Remote, c.SHA256); err != nil {
			return err
		}
	}
	return nil
}
