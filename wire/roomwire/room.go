// Package roomwire has the types of the API by which room is made on devices.
package roomwire

import "time"

// RoomOverview tells of room on every device.
type RoomOverview struct {
	Devices []RoomOnDevice `json:"devices"`
}

// RoomOnDevice is the room on one device.
type RoomOnDevice struct {
	Device   string     `json:"device"`
	Disks    []RoomDisk `json:"disks" doc:"On which its sources lie, as far as it told"`
	Held     RoomWent   `json:"held" doc:"In the holding places"`
	Until    time.Time  `json:"until,omitzero" doc:"When the first of it is proven again and removed"`
	Removed  RoomWent   `json:"removed" doc:"That went, and was not brought back"`
	Standing string     `json:"standing" doc:"What goes by itself, as a sentence"`
	By       string     `json:"by" doc:"Why nothing can go from it, empty where something can"`
}

// RoomWent is a number of items with their bytes.
type RoomWent struct {
	N     int64 `json:"n"`
	Bytes int64 `json:"bytes"`
}

// RoomDisk is a disk of a device.
type RoomDisk struct {
	Free    int64    `json:"free" doc:"Bytes, -1 where nobody knows"`
	Total   int64    `json:"total" doc:"Bytes, -1 where nobody knows"`
	Held    int64    `json:"held" doc:"Bytes in the holding places on it: they get free by themselves"`
	Sources []string `json:"sources"`
}

// RoomAsked is what is to go from a device.
type RoomAsked struct {
	Device  string   `json:"device"`
	Free    int64    `json:"free,omitempty" minimum:"0" maximum:"1000000000000000" doc:"Until so many bytes are free on each disk, the oldest first; all that may go when left out"`
	Keep    int      `json:"keep,omitempty" minimum:"0" maximum:"9999" doc:"What was taken in the last so many days stays"`
	Larger  int64    `json:"larger,omitempty" minimum:"0" doc:"Only what has more bytes"`
	Kinds   []string `json:"kinds,omitempty" maxItems:"10" enum:"photo,raw,graphic,video,audio,document,other" doc:"Only these; all when left out"`
	Folder  string   `json:"folder,omitempty" maxLength:"4000" doc:"Only what lies in it, or below: from the source on"`
	Places  int      `json:"places,omitempty" minimum:"0" maximum:"9" doc:"Only what is proven at so many places; 2 when left out"`
	Held    int      `json:"held,omitempty" minimum:"0" maximum:"999" doc:"Days in the holding place; 7 when left out"`
	Small   bool     `json:"small,omitempty" doc:"A smaller picture stays in the place of each"`
	Metered bool     `json:"metered,omitempty" doc:"Also prove over a network that may cost"`
}

// RoomPlan is what would go, before it does.
type RoomPlan struct {
	Device  string       `json:"device"`
	N       int64        `json:"n"`
	Bytes   int64        `json:"bytes"`
	From    time.Time    `json:"from,omitzero" doc:"When the oldest of it was taken"`
	To      time.Time    `json:"to,omitzero" doc:"When the newest of it was taken"`
	Folders []RoomFolder `json:"folders" doc:"Where it lies, what has the most bytes first; a few"`
	Kinds   []RoomKind   `json:"kinds"`
	Stays   []RoomStays  `json:"stays" doc:"What stays, and why"`
	Lacks   int64        `json:"lacks" doc:"Bytes that would still not be free, of those that are asked for"`
	Disks   []RoomDisk   `json:"disks"`
	Places  int          `json:"places"`
	Held    int          `json:"held" doc:"Days in the holding place"`
	Costs   bool         `json:"costs" doc:"Proofs would go over a network that may cost: it must be said that they may"`
	Says    string       `json:"says"`
	Problem string       `json:"problem" doc:"Why it cannot begin, empty when it can"`
}

// RoomFolder is what would go from a folder.
type RoomFolder struct {
	Folder string `json:"folder"`
	N      int64  `json:"n"`
	Bytes  int64  `json:"bytes"`
}

// RoomKind is what would go of a kind.
type RoomKind struct {
	Kind  string `json:"kind" enum:"photo,raw,graphic,video,audio,document,other"`
	N     int64  `json:"n"`
	Bytes int64  `json:"bytes"`
}

// RoomStays is what stays for a reason.
type RoomStays struct {
	Reason string `json:"reason" enum:"not wanted,too new,back again,its folder,not safe,few places,not as shot,enough"`
	N      int64  `json:"n"`
	Bytes  int64  `json:"bytes"`
	Says   string `json:"says"`
}

// RoomMade is what came of it so far.
type RoomMade struct {
	N      int64    `json:"n" doc:"Items in the holding place"`
	Bytes  int64    `json:"bytes"`
	Stayed int64    `json:"stayed" doc:"Items that stayed: a proof did not hold, or the file changed"`
	Says   []string `json:"says" doc:"Why, the first few, each as a sentence"`
}

// RoomBackAsked names items of a device in the holding place.
type RoomBackAsked struct {
	Device string   `json:"device"`
	Items  []string `json:"items,omitempty" maxItems:"10000" doc:"Their keys; all when left out"`
}

// RoomBack is what is back.
type RoomBack struct {
	N int64 `json:"n" doc:"Items"`
}

// RoomFile is a file that went.
type RoomFile struct {
	ID      int64       `json:"id"`
	Device  string      `json:"device"`
	Key     string      `json:"key" doc:"Of its item"`
	Path    string      `json:"path" doc:"On the device, from the source on"`
	Bytes   int64       `json:"bytes"`
	SHA256  string      `json:"sha256"`
	State   string      `json:"state" enum:"moving,held,removing,removed,back"`
	Since   time.Time   `json:"since" doc:"When it went into the holding place"`
	Until   time.Time   `json:"until" doc:"When it is proven again and removed from there"`
	Removed time.Time   `json:"removed,omitzero"`
	Back    time.Time   `json:"back,omitzero" doc:"When it was taken back, or brought back"`
	HeldAs  string      `json:"heldAs" doc:"Where it lies in the holding place, from the source on"`
	Small   string      `json:"small" doc:"The smaller one that stays, from the source on; empty for none"`
	Proofs  []RoomProof `json:"proofs" doc:"On which it went"`
	Says    string      `json:"says"`
}

// RoomProof is a proof on which a file went.
type RoomProof struct {
	Destination string    `json:"destination"`
	Path        string    `json:"path"`
	Way         string    `json:"way"`
	At          time.Time `json:"at"`
	AsShot      bool      `json:"asShot"`
}

// RoomLedger is a part of what went, the newest first.
type RoomLedger struct {
	Files []RoomFile `json:"files"`
	Below int64      `json:"below" doc:"The next part begins below this number; 0 at the end"`
}
