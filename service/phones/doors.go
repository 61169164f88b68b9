package phones

import (
	"net"
	"strconv"

	"golang.org/x/crypto/ssh"

	"yardtide/service/household"
	"yardtide/wire/phonewire"
)

// Doors tell by which addresses a phone comes, with keys that were made for it.
func (one *Phone) Doors(keys Keys) (phonewire.PhoneKeys, error) {
	home := one.of.Home()
	network, _ := one.of.Network()
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
		k.Page.Says = "Point the phone's camera at the picture, or open the address in its browser. Keep it to yourself: it is the phone's key."
		k.WebDAV.Says = "In the app's settings for uploads choose WebDAV, and give it the address, the user and the password."
		for _, door := range []*phonewire.Door{&k.Page, &k.WebDAV} {
			var err error
			if door.QR, err = household.QR(door.Address); err != nil {
				return k, err
			}
		}
	}
	if network.SFTPAt != "" {
		host, port, _ := net.SplitHostPort(household.Reachable(network.SFTPAt))
		k.SFTP.Host, k.SFTP.Key = host, ssh.FingerprintSHA256(one.of.HostKey())
		k.SFTP.Port, _ = strconv.Atoi(port) // the system's own
		k.SFTP.Address = "sftp://" + one.Name + "@" + household.Reachable(network.SFTPAt)
		k.SFTP.Says = "In the app's settings for uploads choose SFTP, and give it the host, the port, the user and the password. The key that " +
			"it shows at first must be the one here."
	}
	return k, nil
}
