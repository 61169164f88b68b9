package device

import (
	"context"
	"time"

	"yardtide/core/plan"
	"yardtide/engine/records"
)

// sweep removes temporary files of copies that rest: their last try could not
// clean up, as the storage was away or the network cost. It runs beside sends
// and ends with them.
func (d *Device) sweep(ctx, sendCtx context.Context, now time.Time) error {
	d.mu.Lock()
	var names []string
	for name := range d.littered {
		dest, known := d.plan.Destinations[name]
		t := d.troubles[name]
		shut := dest.Networked() && (d.now.Costs() || d.now.Network == plan.NoNetwork) || d.pause.Active(now)
		if known && !shut && (t == nil || !now.Before(t.until)) {
			names = append(names, name)
		}
	}
	d.mu.Unlock()
	for _, name := range names {
		left, err := d.Records.Temps(ctx, name)
		if err != nil {
			return err
		}
		d.mu.Lock()
		delete(d.littered, name)
		d.mu.Unlock()
		if len(left) > 0 {
			d.sends.Go(func() { d.removeTemps(sendCtx, name, left) })
		}
	}
	return nil
}

func (d *Device) removeTemps(ctx context.Context, name string, left []records.Copy) {
	driver, err := d.Driver(name)
	for _, c := range left {
		if err == nil {
			err = driver.Remove(ctx, c.Temp)
		}
		if err == nil {
			err = d.Records.Note(ctx, c.ID, "", c.Remote, c.SHA256)
		}
		if err != nil {
			d.Log.Warn("temporary files are left for now", "device", d.Name, "destination", name, "err", err)
			d.mu.Lock()
			d.littered[name] = true
			d.mu.Unlock()
			return
		}
	}
}
