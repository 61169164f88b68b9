package wire

import "time"

// JoinCode is a one-time code with which a device elsewhere joins.
type JoinCode struct {
	Device      string    `json:"device"`
	Code        string    `json:"code" doc:"With the address, a secret and the pin of the service's key"`
	ByHand      string    `json:"byHand" doc:"To be typed: without the pin, which is compared then"`
	Fingerprint string    `json:"fingerprint" doc:"Of the service's key; the device shows the same"`
	Until       time.Time `json:"until" doc:"When it ends"`
	QR          []string  `json:"qr" doc:"A QR picture of the code: rows of # for dark and . for light modules, with its quiet edge"`
}

// HomeNetwork is where the service listens for devices elsewhere.
type HomeNetwork struct {
	Address     string `json:"address" doc:"As host:port; empty when it does not listen"`
	Listening   bool   `json:"listening"`
	Problem     string `json:"problem" doc:"Why it does not listen although it is to, else empty"`
	Fingerprint string `json:"fingerprint" doc:"Of the service's key, as a device shows it"`
	Proposed    string `json:"proposed" doc:"An address of this computer to listen on, empty when there is none"`
}

// HomeNetworkEdit says where to listen for devices elsewhere.
type HomeNetworkEdit struct {
	Address string `json:"address" maxLength:"300" doc:"As host:port, such as 192.168.1.20:7443; empty: not at all"`
}

// Rename is what a device is to be called.
type Rename struct {
	To string `json:"to" minLength:"1" maxLength:"63" doc:"Its new name: letters, digits, dots and dashes"`
}

// Revoked is what a device that was revoked had.
type Revoked struct {
	Device  string   `json:"device"`
	Secrets []string `json:"secrets" doc:"The destinations whose secrets it held: change them where it may be in other hands"`
	Says    string   `json:"says"`
}
