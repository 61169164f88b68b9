// Package bringwire has the types of the API by which files are brought back from places.
package bringwire

// BringRef names an item.
type BringRef struct {
	Device string `json:"device"`
	Key    string `json:"key"`
}

// BringAsked is what is to be brought back, and where to. With items, those; without, all that the question finds.
type BringAsked struct {
	Items    []BringRef        `json:"items,omitempty" maxItems:"10000" doc:"These; all that the question finds when left out"`
	Question map[string]string `json:"question,omitempty" doc:"As the query of GET /library has it: device, person, folder, from, to and so on"`
	Device   string            `json:"device,omitempty" doc:"To this device; to their own when left out"`
	Folder   string            `json:"folder,omitempty" doc:"Into this folder of the device, or of this computer where it is a whole path; each to its own place when left out"`
	Metered  bool              `json:"metered,omitempty" doc:"Also over a network that may cost"`
}

// BringFrom is what comes from one destination.
type BringFrom struct {
	Destination string `json:"destination"`
	N           int64  `json:"n"`
	Bytes       int64  `json:"bytes"`
	Network     bool   `json:"network" doc:"It is reached over the network"`
}

// BringPlan is what bringing back would take, before it is begun.
type BringPlan struct {
	N       int64       `json:"n" doc:"Items that are asked for"`
	Bytes   int64       `json:"bytes" doc:"That come, at most: what is there already does not"`
	Here    int64       `json:"here" doc:"Of the items, those that are on their device, as far as is known; what is missing there comes as well"`
	Reduced int64       `json:"reduced" doc:"Of the items, those of which only a smaller copy is anywhere"`
	Nowhere int64       `json:"nowhere" doc:"Of the items, those that are safe nowhere: they cannot be brought back"`
	Free    int64       `json:"free" doc:"Bytes that are free there, -1 where nobody knows"`
	To      []string    `json:"to" doc:"The folders that they go to"`
	From    []BringFrom `json:"from"`
	Costs   bool        `json:"costs" doc:"Some come over a network that may cost: it must be said that they may"`
	Says    string      `json:"says"`
	Problem string      `json:"problem" doc:"Why it cannot begin, empty when it can"`
}

// BroughtBack is what came of it so far.
type BroughtBack struct {
	N       int64    `json:"n" doc:"Items that are there now"`
	Had     int64    `json:"had" doc:"Of them, those that were there already"`
	Beside  int64    `json:"beside" doc:"Of them, those that have another name, as something else had theirs"`
	Reduced int64    `json:"reduced" doc:"Of them, those that are smaller than as shot, and are called so"`
	Bytes   int64    `json:"bytes" doc:"That came"`
	Nowhere int64    `json:"nowhere" doc:"Items that are safe nowhere: they lie on their device alone, or are lost"`
	Failed  int64    `json:"failed"`
	Says    []string `json:"says" doc:"What failed, the first few, each as a sentence"`
}

// ZipOrdered is a zip that can be fetched now.
type ZipOrdered struct {
	ID string `json:"id"`
	N  int    `json:"n" doc:"Items that it will have"`
}
