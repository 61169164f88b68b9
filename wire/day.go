package wire

import "time"

// DeviceDay is what a device sensed and sent in a day, of its own time zone.
type DeviceDay struct {
	Device string      `json:"device"`
	From   time.Time   `json:"from" doc:"The day's first instant"`
	To     time.Time   `json:"to" doc:"The next day's"`
	Senses []DaySensed `json:"senses" doc:"Each from its time on, until the next"`
	Runs   []DayRun    `json:"runs" doc:"When the device's program ran"`
	Safe   []DaySafe   `json:"safe" doc:"What became safe, by quarters of an hour"`
}

// DaySensed is what a device sensed from a time on.
type DaySensed struct {
	At          time.Time `json:"at"`
	Network     string    `json:"network" enum:"unknown,none,wifi,wired,cellular"`
	NetworkName string    `json:"networkName" doc:"Of the Wi-Fi, where the device told"`
	Metered     string    `json:"metered" enum:"unknown,yes,no"`
	Roaming     string    `json:"roaming" enum:"unknown,yes,no"`
	Charging    string    `json:"charging" enum:"unknown,yes,no"`
	Use         string    `json:"use" enum:"unknown,in use,idle"`
}

// DayRun is a run of a device's program.
type DayRun struct {
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Stopped bool      `json:"stopped" doc:"It was stopped from outside: by its system, or as the device went off"`
}

// DaySafe is what became safe in a quarter of an hour.
type DaySafe struct {
	At time.Time `json:"at"`
	Amount
}
