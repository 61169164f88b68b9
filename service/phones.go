package service

import (
	"context"
	"net"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"yardtide/core/plan"
	"yardtide/engine/inbox"
	"yardtide/engine/sensor"
	"yardtide/service/household"
	"yardtide/service/phones"
	"yardtide/wire/phonewire"
	"yardtide/wire/planwire"
)

// phonesOptions tie the phones that hand over to the rest of the service.
func (s *Service) phonesOptions() phones.Options {
	return phones.Options{Dir: s.Dir, Log: s.Log, Plan: s.Book.PlanOrEmpty, Tell: s.Changes.Tell, HasAny: s.fleet.HasAny,
		Free: func() int64 { return inbox.DiskFree(s.Dir) },
		Edit: func(ctx context.Context, edits []plan.Edit) error {
			_, err := s.Trials.EditPlan(ctx, planwire.PlanEdits{Edits: edits})
			return err
		},
		Begin: func(ctx context.Context, name, root string) (phones.Device, error) {
			d, err := s.openDevice(ctx, Local{Name: name, Root: root, Sensor: s.phoneSensor()})
			if err != nil {
				return phones.Device{}, err
			}
			d.SetPlan(s.Book.PlanOrEmpty())
			return phones.Device{Records: d.Records, Under: d.Told.Under}, nil
		},
	}
}

// phoneSensor senses for the devices of phones: what they handed over goes from this machine, under its conditions.
func (s *Service) phoneSensor() sensor.Sensor {
	if s.Inboxes != nil {
		return s.Inboxes
	}
	if len(s.Members) > 0 {
		return s.Members[0].Sensor
	}
	return sensor.System()
}

// AddPhone adds a phone that hands over, or gives one new keys, and tells by which addresses it comes.
func (s *Service) AddPhone(ctx context.Context, a phonewire.PhoneAdd, now time.Time) (phonewire.PhoneKeys, error) {
	if s.Book.Plan() == nil {
		return phonewire.PhoneKeys{}, household.Refuse("there is no plan yet; make the first one (the page Set-up), then add the phone")
	}
	if s.Joined != nil {
		return phonewire.PhoneKeys{}, household.Refuse("this device joined %s; phones are added there", s.Joined.Home.Yard)
	}
	one, keys, err := s.Phones.Add(ctx, a, now)
	if err != nil {
		return phonewire.PhoneKeys{}, err
	}
	home := s.Household.HomeNetwork()
	network, _ := s.Phones.Network()
	k := phonewire.PhoneKeys{Name: one.Name, Fingerprint: home.Fingerprint, Notes: []string{},
		Page:   phonewire.Door{QR: []string{}, Password: keys.Page},
		WebDAV: phonewire.Door{QR: []string{}, User: one.Name, Password: keys.App},
		SFTP:   phonewire.Door{QR: []string{}, User: one.Name, Password: keys.App}}
	at := ""
	switch {
	case network.PlainAt != "":
		at = "http://" + household.Reachable(network.PlainAt)
		k.Notes = append(k.Notes, "The address is not encrypted: whoever is on the home network could read along.")
	case home.Listening:
		at = "https://" + household.Reachable(home.Address)
		k.Notes = append(k.Notes, "The phone's browser will say that the connection is not private: the certificate is this yard's own, and "+
			"nobody on the internet vouches for it. Go on all the same, or have the phone trust it once: "+at+"/p/certificate.crt")
	default:
		k.Notes = append(k.Notes, "The service does not listen on the home network, so that no phone can reach it; switch that on first "+
			"(the page Devices, or yardtide device network ADDRESS), then make new keys.")
	}
	if at != "" {
		k.Page.Address, k.WebDAV.Address = at+"/p/#"+keys.Page, at+"/dav/"
		k.Page.Says = "Point the phone's camera at the picture, or open the address in its browser; keep it to yourself: it is the phone's key."
		k.WebDAV.Says = "In the app's settings for uploads choose WebDAV, and give it the address, the user and the password."
		for _, door := range []*phonewire.Door{&k.Page, &k.WebDAV} {
			if door.QR, err = household.QR(door.Address); err != nil {
				return k, err
			}
		}
	}
	if network.SFTPAt != "" {
		host, port, _ := net.SplitHostPort(household.Reachable(network.SFTPAt))
		k.SFTP.Host, k.SFTP.Key = host, ssh.FingerprintSHA256(s.Household.HostKey().PublicKey())
		k.SFTP.Port, _ = strconv.Atoi(port) // the system's own
		k.SFTP.Address = "sftp://" + one.Name + "@" + household.Reachable(network.SFTPAt)
		k.SFTP.Says = "In the app's settings for uploads choose SFTP, and give it the host, the port, the user and the password; the key that it " +
			"shows at first must be the one here."
	}
	return k, nil
}
