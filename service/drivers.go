package service

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/engine/destination/s3"
	"yardtide/engine/destination/sftp"
	"yardtide/engine/destination/web"
	"yardtide/engine/destination/webdav"
	"yardtide/engine/fleet"
	"yardtide/engine/work"
	"yardtide/service/vault"
)

// drivers makes a driver for each destination of the plan and shares it
// between the devices of this process: so two of them never race for a name.
type drivers struct {
	plan    func() *plan.Plan
	tell    func()
	fleet   *fleet.Fleet
	secrets vault.Vault
	// authorities is the folder of what the yard's service gave of each destination's
	// authority; "" where the service is here, and the plan's file counts.
	authorities string

	mu      sync.Mutex
	made    map[string]made
	retired []destination.Driver // of earlier plans
	asked   map[string]time.Time // for its space
	asking  work.Crew            // by the destination
}

type made struct {
	driver destination.Driver
	from   plan.Destination
}

// get is the driver of a destination.
func (d *drivers) get(name string) (destination.Driver, error) {
	p := d.plan()
	if p == nil {
		return nil, &destination.Error{Cause: queue.Misplaced, Says: "there is no plan"}
	}
	want, ok := p.Destinations[name]
	if !ok {
		return nil, &destination.Error{Cause: queue.Misplaced, Says: fmt.Sprintf("the plan has no destination %q", name)}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if m, ok := d.made[name]; ok && m.from == want {
		return m.driver, nil
	}
	opened := want
	if d.authorities != "" && want.Authority != "" {
		opened.Authority = authorityFile(d.authorities, name)
	}
	driver, err := open(opened, d.secrets.For(opened))
	if err != nil {
		return nil, err
	}
	// An earlier driver is closed at the end: sends may be using it.
	if m, ok := d.made[name]; ok {
		d.retired = append(d.retired, m.driver)
	}
	d.made[name] = made{driver, want}
	return driver, nil
}

func authorityFile(folder, name string) string { return filepath.Join(folder, name+".pem") }

func open(d plan.Destination, secret vault.Reader) (destination.Driver, error) {
	passwordOf := func() (string, error) { return secret(vault.Password, d.PasswordFrom) }
	overWeb := web.Options{Authority: d.Authority, Certificate: d.Certificate}
	switch d.Kind {
	case plan.Folder:
		return folder.New(d.Path), nil
	case plan.WebDAV:
		return webdav.New(webdav.Options{URL: d.URL, User: d.User, Password: passwordOf, Web: overWeb})
	case plan.S3:
		return s3.New(s3.Options{URL: d.URL, Bucket: d.Bucket, Path: d.Path, Region: d.Region, User: d.User,
			Password: passwordOf, Web: overWeb})
	case plan.SFTP:
		o := sftp.Options{Address: d.Address, Path: d.Path, User: d.User, HostKey: d.HostKey}
		if d.PasswordFrom != "" {
			o.Password = passwordOf
		}
		if d.KeyFrom != "" {
			o.Key = func() ([]byte, error) { pem, err := secret(vault.Key, d.KeyFrom); return []byte(pem), err }
		}
		return sftp.New(o), nil
	}
	return nil, &destination.Error{Cause: queue.Misplaced, Says: fmt.Sprintf("%q is not a kind of destination", d.Kind)}
}

const (
	spaceLife = 20 * time.Second // how long an answer about space is good while somebody looks
	watchWait = 5 * time.Minute  // how often it is asked for when nobody does
	spaceWait = 10 * time.Second // how long a storage may take to answer
)

// refresh asks a destination for its room in the background, when what is known
// of it is old: a status never waits for a storage.
func (d *drivers) refresh(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if time.Since(d.asked[name]) >= spaceLife && d.asking.Begin(name, func() { d.ask(name) }) {
		d.asked[name] = time.Now()
	}
}

func (d *drivers) ask(name string) {
	driver, err := d.get(name)
	if err != nil {
		return // sending says so, with what to do
	}
	ctx, cancel := context.WithTimeout(context.Background(), spaceWait)
	defer cancel()
	landed := d.fleet.Landed(name) // what lands from here on may not be counted
	space, err := d.measure(ctx, name, driver)
	if err != nil {
		return // the same
	}
	d.fleet.SetSpace(name, space, landed)
	d.tell()
}

// measure asks a storage for its space. Where it does not tell, the size that
// the keeper states counts, less what is known to be there.
func (d *drivers) measure(ctx context.Context, name string, driver destination.Driver) (destination.Space, error) {
	space := destination.Space{Free: -1, Used: -1}
	if s, ok := driver.(destination.Spacer); ok {
		var err error
		if space, err = s.Space(ctx); err != nil {
			return space, err
		}
	}
	size := int64(d.plan().Destinations[name].Size)
	if space.Free >= 0 || size == 0 {
		return space, nil
	}
	there, _, err := d.fleet.Shares(ctx, name)
	if err != nil {
		return space, err
	}
	space.Used = 0
	for _, share := range there {
		space.Used += share.Bytes
	}
	space.Free = max(0, size-space.Used)
	return space, nil
}

// watch asks every destination for its space from time to time, so that a send
// knows the room there is before it starts.
func (d *drivers) watch(ctx context.Context) {
	tick := time.NewTicker(watchWait)
	defer tick.Stop()
	for {
		d.refreshAll()
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// forget has every destination asked for its space anew.
func (d *drivers) forget() {
	d.mu.Lock()
	clear(d.asked)
	d.mu.Unlock()
	d.refreshAll()
}

func (d *drivers) refreshAll() {
	if p := d.plan(); p != nil {
		for name := range p.Destinations {
			d.refresh(name)
		}
	}
}

// close waits for questions under way and closes the drivers.
func (d *drivers) close() error {
	d.asking.End(work.Forever)
	var err error
	for _, m := range d.made {
		err = errors.Join(err, m.driver.Close())
	}
	for _, driver := range d.retired {
		err = errors.Join(err, driver.Close())
	}
	return err
}
