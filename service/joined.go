package service

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"yardtide/core/plan"
	"yardtide/engine/atomicfile"
	"yardtide/engine/device"
	"yardtide/engine/link"
	"yardtide/engine/records"
	"yardtide/service/caller"
	"yardtide/service/household"
	"yardtide/service/planbook"
	"yardtide/service/vault"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// This file runs a device whose service is elsewhere: the same service, for that one
// device, whose plan comes over the link.

// Joined is how a data directory keeps which service its device joined. It holds a secret.
type Joined struct {
	Home link.Home `json:"home"`
	Mark string    `json:"mark"`          // of the plan that is followed
	Was  string    `json:"was,omitempty"` // the device's name before, whose folder its records may have still
}

func joinedFile(dir string) string { return filepath.Join(dir, "joined.json") }

// ReadJoined reads it, nil when the data directory is a service's own.
func ReadJoined(dir string) (*Joined, error) {
	text, err := os.ReadFile(joinedFile(dir))
	// whoever makes the directory says what is wrong with it
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil, nil
	}
	j := &Joined{}
	if err == nil {
		err = json.Unmarshal(text, j)
	}
	if err != nil {
		return nil, fmt.Errorf("reading which service this device joined (%s): %w; join again with a new code",
			joinedFile(dir), err)
	}
	return j, nil
}

// settle gives the records of a device that was renamed the folder of its name.
func (j Joined) settle(dir string) error {
	if j.Was == "" {
		return nil
	}
	from, to := filepath.Join(dir, "devices", j.Was), filepath.Join(dir, "devices", j.Home.Device)
	if _, err := os.Stat(to); err == nil {
		return nil
	}
	if err := os.Rename(from, to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("taking up the records of %s as those of %s: %w", j.Was, j.Home.Device, err)
	}
	return nil
}

func (j Joined) keep(dir string) error {
	text, err := json.Marshal(j)
	if err == nil {
		err = atomicfile.Write(joinedFile(dir), string(text)+"\n")
	}
	if err != nil {
		return fmt.Errorf("keeping which service this device joined: %w", err)
	}
	return nil
}

// JoinHome joins a service by a code, for the device of a data directory, and keeps that.
func JoinHome(ctx context.Context, dir string, c link.Code, version string) (link.Home, error) {
	if _, err := os.Stat(filepath.Join(dir, "plans")); err == nil {
		if j, err := ReadJoined(dir); err != nil || j == nil {
			return link.Home{}, errors.Join(err, household.Refuse("the data directory %s is a service's own; give the "+
				"device another with -data", dir))
		}
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return link.Home{}, fmt.Errorf("making the data directory: %w", err)
	}
	recipient, err := vault.Vault{Dir: dir}.Recipient()
	if err != nil {
		return link.Home{}, err
	}
	// The answer may be lost: asked again with the same token, the same device joins.
	joining := filepath.Join(dir, "joining")
	token, err := hex.DecodeString(caller.NewToken())
	if kept, rerr := os.ReadFile(joining); rerr == nil && len(kept) == 2*len(token) {
		token, err = hex.DecodeString(string(kept))
	}
	if err == nil {
		err = atomicfile.Write(joining, hex.EncodeToString(token))
	}
	if err != nil {
		return link.Home{}, fmt.Errorf("keeping the token to join with: %w", err)
	}
	h, err := link.JoinBy(ctx, c, token, recipient, version)
	if err != nil {
		return h, err
	}
	if err := (Joined{Home: h}).keep(dir); err != nil {
		return h, err
	}
	return h, os.Remove(joining)
}

// home is the service that the one device here joined.
type home struct {
	Options
	*Joined
	book    *planbook.Book
	drivers *drivers
	device  *device.Device
	records *records.Records
	agent   *link.Agent
	tell    func()
}

// startLink makes the agent of the one device that runs here.
func (s *Service) startLink(ctx context.Context, others *link.Others, d *device.Device) error {
	h := &home{Options: s.Options, Joined: s.Joined, book: s.Book, drivers: &s.drivers, device: d, records: s.members.all()[0].records,
		tell: s.Changes.Tell}
	var err error
	h.agent, err = link.NewAgent(ctx, link.AgentOptions{
		Home: h.Home, Version: h.Version, Records: h.records, Others: others, Follow: h.follow, Removed: h.removed,
		Next: s.Changes.Next, Tell: s.Changes.Tell, Log: s.Log,
	}, link.Here{Known: d.Known, Orders: d.Orders, Shows: d.Shows})
	if err != nil {
		return err
	}
	if h.book.Plan() != nil || h.Mark == "none" {
		h.agent.Following(h.Mark)
	}
	s.home = h
	return nil
}

// follow takes up the plan that the service gives, with its secrets.
func (h *home) follow(ctx context.Context, p link.Plan) error {
	if now := h.Home.Device; p.Device != "" && p.Device != now {
		if !plan.IsName(p.Device) {
			return fmt.Errorf("%q cannot be the name of this device", p.Device)
		}
		h.Log.Info("this device has another name now, and begins anew under it", "device", p.Device, "was", now)
		h.Joined.Was, h.Home.Device = now, p.Device
		return errors.Join(h.Joined.keep(h.Dir), link.ErrRenamed)
	}
	if len(p.Secrets) > 0 {
		text, err := h.drivers.secrets.Open(bytes.NewReader(p.Secrets))
		if err != nil {
			return fmt.Errorf("opening the secrets: %w", err)
		}
		var secrets []link.Secret
		if err := json.Unmarshal([]byte(text), &secrets); err != nil {
			return errors.New("what was sealed are no secrets") // the reader's words may hold some of it
		}
		for _, one := range secrets {
			if plan.IsName(one.Name) && one.Kind == household.AuthorityKind {
				if err := h.putAuthority(one.Name, one.Secret); err != nil {
					return err
				}
				continue
			}
			if !plan.IsName(one.Name) || one.Kind != string(vault.Password) && one.Kind != string(vault.Key) {
				return fmt.Errorf("a secret is of no destination")
			}
			if err := h.drivers.secrets.Put(vault.Kind(one.Kind), one.Name, one.Server, one.Secret); err != nil {
				return err
			}
		}
	}
	changed := false
	if err := h.book.Alone(func(put planbook.Put) (err error) {
		if now, _ := h.book.Text(); p.Text != "" && p.Text != now {
			changed = true
			_, err = put(ctx, "the plan of "+h.Home.Yard, p.Text, planwire.PlanByLink)
		}
		return err
	}); err != nil {
		return err
	}
	if p.Text != "" && !changed { // only secrets changed
		h.drivers.forget()
		for to := range h.book.PlanOrEmpty().Destinations {
			h.device.Orders.TryAgain(to)
		}
	}
	h.Joined.Mark = p.Mark
	if err := h.Joined.keep(h.Dir); err != nil {
		return err
	}
	return h.takenInAgain(ctx)
}

func (h *home) putAuthority(name, pem string) error {
	err := os.MkdirAll(h.drivers.authorities, 0o700)
	if err == nil {
		err = atomicfile.Write(authorityFile(h.drivers.authorities, name), pem)
	}
	if err != nil {
		return fmt.Errorf("keeping the authority's certificate of %s: %w", name, err)
	}
	return nil
}

// removedFact is "1" while the device is paused as it was revoked.
const removedFact records.Fact[string] = "link removed"

// takenInAgain ends the pause of a device that was revoked, and joined again.
func (h *home) takenInAgain(ctx context.Context) error {
	_, was, err := removedFact.Read(ctx, &h.records.Facts)
	if err != nil || !was {
		return err
	}
	if err := h.device.Orders.Resume(ctx); err != nil {
		return err
	}
	return removedFact.Keep(ctx, &h.records.Facts, "")
}

// removed stops a device that was revoked: it sends nothing any more.
func (h *home) removed() {
	h.Log.Warn("this device was revoked; it sends nothing any more", "yard", h.Home.Yard)
	err := h.device.Orders.Pause(context.Background(), time.Time{})
	if err == nil {
		err = removedFact.Keep(context.Background(), &h.records.Facts, "1")
	}
	if err != nil {
		h.Log.Error("the device could not be paused", "err", err)
	}
	h.tell()
}

// sendsTo lists the destinations that the device here sends to, and how much is kept free
// at each.
func (s *Service) sendsTo() map[string]int64 {
	p, list := s.Book.PlanOrEmpty(), map[string]int64{}
	for name, d := range p.Destinations {
		if p.SendsTo(s.Members[0].Name, name) {
			list[name] = int64(d.KeepFree)
		}
	}
	return list
}

// status tells how the device and its service stand; nil where the service is here.
func (h *home) status() *wire.Home {
	if h == nil {
		return nil
	}
	st := h.agent.State()
	is := &wire.Home{Yard: h.Home.Yard, Address: st.Address, Heard: st.Heard, Problem: st.Failed}
	if ahead := st.Ahead; ahead > 2*time.Minute || ahead < -2*time.Minute {
		is.Behind = int64(ahead / time.Second)
	}
	switch {
	case st.Removed:
		is.Says = "This device was revoked: it sends nothing any more. To take it in again, join with a new code."
	case st.Heard.IsZero():
		is.Says = "The service of " + is.Yard + " was not heard of yet."
	case st.Failed != "":
		is.Says = "The service of " + is.Yard + " was last heard of at " + st.Heard.Format("15:04 on 2 January") +
			"; this device goes on by the plan that it has."
	default:
		is.Says = "In touch with the service of " + is.Yard + "."
	}
	return is
}

// elsewherePlan is the refusal to change a plan that is another service's.
func (s *Service) elsewherePlan() error {
	if s.Joined == nil {
		return nil
	}
	return household.Refuse("the plan of this device is that of %s, at %s: change it there", s.Joined.Home.Yard,
		s.Joined.Home.Address)
}
