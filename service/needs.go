package service

import (
	"fmt"
	"slices"
	"strings"

	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/wire"
)

// mostProblems is how many problems of one source are told each by itself.
const mostProblems = 3

// needs gathers what a yard asks of its keeper, each thing once: what stops a whole
// device first, then folders that are away, storages, and single items.
func needs(y wire.Yard) []wire.Need {
	list := []wire.Need{}
	add := func(n wire.Need) {
		if n.Mends == "" {
			n.Mends = "nothing"
		}
		list = append(list, n)
	}
	yardNeeds(y, add)
	linkNeeds(y, add)
	sourceNeeds(y, add)
	heldNeeds(y, destinationNeeds(y, add), add)
	return list
}

// yardNeeds are needs of the plan, and of devices that the plan has and that cannot run or do not.
func yardNeeds(y wire.Yard, add func(wire.Need)) {
	if y.Problem != "" {
		mends := ""
		if y.Yard == "" {
			mends = "plan"
		}
		add(wire.Need{Says: y.Problem, Mends: mends})
	}
	for _, d := range y.Devices {
		if d.Problem != "" {
			add(wire.Need{Says: d.Problem, Device: d.Name})
		}
	}
	if y.Home != nil && y.Home.Behind != 0 {
		add(wire.Need{Says: wire.DeviceLink{Ahead: -y.Home.Behind}.ClockSays("this device"),
			Todo: "Set whichever is wrong right."})
	}
	for _, name := range y.Absent {
		add(wire.Need{Says: name + " is in the plan, and nothing runs it: what is new on it is not seen.",
			Todo: "Let it join: on the page Devices, or with yardtide device add " + name + ".", Device: name})
	}
}

// linkNeeds are needs of devices elsewhere: silent, stopped from outside, with a clock that is wrong.
func linkNeeds(y wire.Yard, add func(wire.Need)) {
	for _, d := range y.Devices {
		if l := d.Link; l != nil {
			if l.Silent {
				add(wire.Need{Says: d.Name + " is silent. " + l.Says,
					Todo: "Look whether it is on, and whether Yard Tide runs there.", Device: d.Name})
			}
			if l.Ahead != 0 {
				add(wire.Need{Says: l.ClockSays(d.Name), Todo: "Set it right.", Device: d.Name})
			}
		}
		if d.Link != nil && d.Stops.N > 2 {
			add(wire.Need{Says: fmt.Sprintf("Yard Tide was stopped from outside on %s %d times in seven days, last at %s.",
				d.Name, d.Stops.N, d.Stops.Last.Format("15:04 on 2 January")), Todo: "Let its system run it in the " +
				"background, and leave it out of battery saving (docs/devices.md).", Device: d.Name})
		}
	}
}

// sourceNeeds are problems of folders.
func sourceNeeds(y wire.Yard, add func(wire.Need)) {
	for _, d := range y.Devices {
		for _, src := range d.Sources {
			for _, p := range src.Problems[:min(len(src.Problems), mostProblems)] {
				add(wire.Need{Says: p.Path + ": " + p.Says, Todo: p.Todo, Device: d.Name})
			}
			if more := len(src.Problems) - mostProblems; more > 0 {
				add(wire.Need{Says: fmt.Sprintf("%s: %s more problems like these.", src.Path, words.Count(int64(more))),
					Device: d.Name})
			}
		}
	}
}

// destinationNeeds are problems of destinations; told are the destinations that have a need.
func destinationNeeds(y wire.Yard, add func(wire.Need)) (told map[string]bool) {
	told = map[string]bool{}
	for _, d := range y.Destinations {
		asks := d.Problem != "" && (d.Todo != "" || d.Asks) // else it mends itself, and stands among what waits
		if asks {
			mends := "retry"
			if d.Asks {
				mends = "answer"
			}
			add(wire.Need{Says: d.Name + ": " + d.Problem, Todo: d.Todo, Destination: d.Name, Mends: mends})
		}
		if d.Says != "" {
			says, _, _ := strings.Cut(d.Says, " Of it: ") // what takes how much stands at the storage
			add(wire.Need{Says: says, Destination: d.Name})
		}
		told[d.Name] = asks || d.Says != ""
	}
	return told
}

// heldNeeds are what waits for the keeper: what is stuck, and holds that only the keeper ends, except at destinations
// that have a need already.
func heldNeeds(y wire.Yard, told map[string]bool, add func(wire.Need)) {
	for _, d := range y.Devices {
		for _, h := range d.Holds {
			if h.You && !slices.ContainsFunc(h.Destinations, func(name string) bool { return told[name] }) {
				add(wire.Need{Says: h.Says, Todo: h.Todo, Device: d.Name})
			}
		}
		if n := d.States[queue.Stuck].N; n > 0 {
			verb := "are"
			if n == 1 {
				verb = "is"
			}
			says := fmt.Sprintf("%s of %s %s stuck.", words.Things(n, d.Kinds...), d.Name, verb)
			add(wire.Need{Says: says, Todo: "See what each needs, then retry.", Device: d.Name, Mends: "retry"})
		}
	}
}

// holds gathers why items of all devices wait, where that mends itself.
func holds(devices []wire.Device) []wire.HoldGroup {
	list := []wire.HoldGroup{}
	for _, d := range devices {
		for _, h := range d.Holds {
			if h.You {
				continue // it stands among the needs
			}
			if i := slices.IndexFunc(list, h.Same); i >= 0 {
				list[i].Join(h)
			} else {
				list = append(list, h)
			}
		}
	}
	slices.SortFunc(list, wire.HoldGroup.Compare)
	return list
}
