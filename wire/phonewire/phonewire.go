// Package phonewire holds what crosses the API about phones that hand over: values only.
package phonewire

import "time"

// InboxPhone is a phone that hands over by its browser or an app.
type InboxPhone struct {
	Name     string    `json:"name"`
	Person   string    `json:"person" doc:"Whose it is, empty for nobody's in particular"`
	Added    time.Time `json:"added"`
	Revoked  bool      `json:"revoked" doc:"It is answered no more; what it handed over goes on"`
	Last     time.Time `json:"last,omitzero" doc:"When something was handed over last"`
	LastWay  string    `json:"lastWay" enum:",page,webdav,sftp" doc:"By which way that was"`
	N        int64     `json:"n" doc:"Files that were handed over"`
	Bytes    int64     `json:"bytes" doc:"Theirs"`
	Inbox    int64     `json:"inbox" doc:"Bytes in the inbox, which are not safe yet or were not moved on"`
	Held     int64     `json:"held" doc:"Bytes in the holding place: safe, and removed in some days"`
	Most     int64     `json:"most" doc:"Bytes that its inbox may take"`
	HeldDays int       `json:"heldDays" doc:"Days in the holding place"`
	Underway int       `json:"underway" doc:"Files on their way now"`
	Says     string    `json:"says" doc:"As a sentence"`
}

// PhoneAdd adds a phone.
type PhoneAdd struct {
	Name   string `json:"name"`
	Person string `json:"person,omitempty"`
	Rule   string `json:"rule,omitempty" doc:"That its pictures follow; without one, the one that most folders follow"`
}

// PhoneSet changes a phone. What is left out stays.
type PhoneSet struct {
	Most     *int64   `json:"most,omitempty" minimum:"1000000"`
	HeldDays *int     `json:"heldDays,omitempty" minimum:"0" maximum:"365"`
	Keys     []string `json:"keys,omitempty" maxItems:"16" doc:"SSH public keys, in the form of authorized_keys, in place of those before"`
}

// PhoneKeys are the keys of a phone, told once.
type PhoneKeys struct {
	Name   string `json:"name"`
	Page   Door   `json:"page" doc:"The page for its browser; the password is in the address"`
	WebDAV Door   `json:"webdav" doc:"For an app that uploads to WebDAV"`
	SFTP   Door   `json:"sftp" doc:"For an app that uploads by SFTP"`
	// Fingerprint is of the service's certificate, for who compares it.
	Fingerprint string   `json:"fingerprint"`
	Notes       []string `json:"notes" doc:"What to know of it, in sentences"`
}

// Door is one way in for a phone. Its address is empty where the service does not listen for it.
type Door struct {
	Address  string   `json:"address"`
	User     string   `json:"user,omitempty"`
	Password string   `json:"password,omitempty"`
	QR       []string `json:"qr" doc:"The address as a QR picture, a row a text: # is dark"`
	Says     string   `json:"says" doc:"What to do with it, in general words"`
	Host     string   `json:"host,omitempty"`
	Port     int      `json:"port,omitempty"`
	Key      string   `json:"key,omitempty" doc:"The fingerprint of the SSH host key"`
}

// PhoneNetwork is where the service listens for phones, beside the home network's own address.
type PhoneNetwork struct {
	Plain        string `json:"plain" doc:"An address for http without encryption, for phones that cannot be led to trust the certificate; empty for none"`
	SFTP         string `json:"sftp" doc:"An address for SFTP; empty for none"`
	Most         int64  `json:"most" doc:"Bytes that all inboxes together may take"`
	PlainAt      string `json:"plainAt,omitempty" readOnly:"true" doc:"Where it listens now"`
	SFTPAt       string `json:"sftpAt,omitempty" readOnly:"true" doc:"Where it listens now"`
	PlainProblem string `json:"plainProblem,omitempty" doc:"Why it cannot listen there"`
	SFTPProblem  string `json:"sftpProblem,omitempty" doc:"Why it cannot listen there"`
}

// Mine is what a phone is told of itself on its page.
type Mine struct {
	Name   string `json:"name"`
	Yard   string `json:"yard"`
	Person string `json:"person"`
	// Left is how many bytes its inbox has room for.
	Left int64 `json:"left"`
	// Metered is whether its rules let it use a network that costs; Allowance is how much there is of it in a period, in
	// words.
	Metered   bool    `json:"metered"`
	Allowance string  `json:"allowance"`
	Files     []Given `json:"files" doc:"What it handed over last, the newest first"`
	Waiting   int64   `json:"waiting" doc:"Files that it handed over and that are not safe yet"`
	Safe      int64   `json:"safe" doc:"Files that it handed over and that are safe"`
}

// Given is a file that a phone handed over, as it is told.
type Given struct {
	Path   string    `json:"path"`
	Bytes  int64     `json:"bytes"`
	SHA256 string    `json:"sha256"`
	At     time.Time `json:"at"`
	Safe   bool      `json:"safe"`
	May    bool      `json:"may" doc:"It may be deleted on the phone"`
	Says   string    `json:"says"`
}

// Content is what a phone has: by its size first, which costs nothing to tell, and by its content where something of that
// size is known.
type Content struct {
	SHA256 string `json:"sha256,omitempty"`
	Bytes  int64  `json:"bytes"`
}

// Knows is what is known of a content.
type Knows struct {
	SHA256 string `json:"sha256"`
	Like   bool   `json:"like" doc:"Asked by the size: something of that size is known, and the content has to be told"`
	Known  bool   `json:"known" doc:"It need not be sent"`
	May    bool   `json:"may" doc:"It may be deleted on the phone"`
	Says   string `json:"says"`
}

// TakenBack is what came back out of a holding place.
type TakenBack struct {
	N int `json:"n"`
}
