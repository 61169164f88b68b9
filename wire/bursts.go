package wire

import "time"

// Burst is shots in a row that look alike.
type Burst struct {
	Key     string    `json:"key" doc:"Of its first shot"`
	TakenAt time.Time `json:"takenAt"`
	N       int64     `json:"n" doc:"Shots"`
	Bytes   int64     `json:"bytes"`
	Folder  string    `json:"folder"`
	First   string    `json:"first" doc:"The first shot's name"`
	Last    string    `json:"last"`
}

// BurstsFound are those of a device.
type BurstsFound struct {
	Device string  `json:"device"`
	Bursts []Burst `json:"bursts"`
	More   bool    `json:"more" doc:"There are more than are shown"`
	Says   string  `json:"says" doc:"Why none could be looked for, empty otherwise"`
}
