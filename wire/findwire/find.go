// Package findwire has the types of the API by which items are found among all that are known.
package findwire

import (
	"time"

	"yardtide/wire"
	"yardtide/wire/bringwire"
)

// Found tells what a question found, before any of it is listed.
type Found struct {
	Version string       `json:"version" doc:"Of what is known: with another one, items may stand elsewhere in the list"`
	N       int          `json:"n"`
	Bytes   int64        `json:"bytes"`
	Of      int          `json:"of" doc:"How many items are known in all"`
	Months  []FoundMonth `json:"months" doc:"The newest first, as the list is"`
	Placed  int          `json:"placed" doc:"Of what was found, what tells where it was taken"`
	Devices []FoundShare `json:"devices"`
	People  []FoundShare `json:"people"`
	Kinds   []FoundShare `json:"kinds"`
	Cameras []FoundShare `json:"cameras"`
	At      []FoundShare `json:"at" doc:"Destinations at which it is safe"`
	Sets    []FoundShare `json:"sets"`
}

// FoundMonth is how many of what was found were taken in a month, by the clock where they were.
type FoundMonth struct {
	Year  int `json:"year"`
	Month int `json:"month" minimum:"1" maximum:"12"`
	N     int `json:"n"`
}

// FoundShare is how many of what was found have something in common.
type FoundShare struct {
	Name string `json:"name"`
	N    int    `json:"n"`
}

// FoundList is a part of what was found, the newest first.
type FoundList struct {
	Version string      `json:"version" doc:"As of what was found"`
	N       int         `json:"n" doc:"How many were found"`
	Offset  int         `json:"offset" doc:"How many stand before the first of these"`
	Items   []FoundItem `json:"items"`
}

// FoundItem is an item in a list.
type FoundItem struct {
	Device  string    `json:"device"`
	Key     string    `json:"key" doc:"Names it on its device, for good"`
	Name    string    `json:"name"`
	Path    string    `json:"path" doc:"On the device, from the source on"`
	Kind    string    `json:"kind"`
	Bytes   int64     `json:"bytes"`
	TakenAt time.Time `json:"takenAt" doc:"In the zone where it was taken"`
	State   string    `json:"state" enum:"waiting,preparing,sending,proving,safe,stuck,skipped"`
	Gone    bool      `json:"gone" doc:"It is no longer on its device"`
	At      []string  `json:"at" doc:"The destinations at which all of it is safe"`
	Caption string    `json:"caption"`
	Rating  int       `json:"rating"`
	Camera  string    `json:"camera"`
	Marked  bool      `json:"marked"`
	Hidden  bool      `json:"hidden"`
}

// Spot is what was taken around one point of a map.
type Spot struct {
	Lat    float64   `json:"lat"`
	Lon    float64   `json:"lon"`
	N      int       `json:"n"`
	Newest FoundItem `json:"newest"`
}

// Spots are those of a part of a map.
type Spots struct {
	South float64 `json:"south"`
	West  float64 `json:"west"`
	North float64 `json:"north"`
	East  float64 `json:"east"`
	Spots []Spot  `json:"spots"`
}

// ItemOf is an item as a list has it.
func ItemOf(it wire.Item) FoundItem {
	return FoundItem{Device: it.Device, Key: it.Key, Name: it.Name, Path: it.Path, Kind: it.Kind, Bytes: it.Bytes, TakenAt: it.TakenAt,
		State: it.State, Gone: it.Gone, At: at(it.Copies), Caption: it.Caption, Rating: it.Rating, Camera: it.Camera,
		Marked: it.Keeper.Marked, Hidden: it.Keeper.Hidden}
}

// at are the destinations at which each file of an item is safe, in order.
func at(copies []wire.Copy) []string {
	list := []string{}
	for i := 0; i < len(copies); {
		name, whole, some := copies[i].Destination, true, false
		for ; i < len(copies) && copies[i].Destination == name; i++ {
			if copies[i].Shelf == "" {
				some = true
				whole = whole && copies[i].State == "safe"
			}
		}
		if some && whole {
			list = append(list, name)
		}
	}
	return list
}

// SayAsked changes what the keeper said of items: of these, or without any of all that the question finds. What is left out
// stays as it is.
type SayAsked struct {
	Items    []bringwire.BringRef `json:"items,omitempty" maxItems:"10000"`
	Question map[string]string    `json:"question,omitempty" doc:"As the query of GET /library has it"`
	Marked   *bool                `json:"marked,omitempty"`
	Hidden   *bool                `json:"hidden,omitempty"`
	Note     *string              `json:"note,omitempty" maxLength:"2000" doc:"Empty for none"`
	Put      string               `json:"put,omitempty" maxLength:"100" doc:"Into the set of this name"`
	Take     string               `json:"take,omitempty" maxLength:"100" doc:"Out of the set of this name"`
}

// Said is of how many items it was changed.
type Said struct {
	N int64 `json:"n"`
}
