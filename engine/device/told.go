package device

import (
	"context"
	"maps"
	"os"
	"slices"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/words"
	"yardtide/engine/ffmpeg"
	"yardtide/engine/scan"
	"yardtide/engine/tell"
)

// Told is what is told of a device, from its records and from what it knows beside them.
type Told struct {
	tell.Teller
	d *Device
}

// Trouble is why a destination fails for every copy, and what the keeper can do;
// "" when it does not.
func (t Told) Trouble(name string) (says, todo string) { return t.d.places.Trouble(name) }

// PlaceProblem is why what was proven at a destination does not count now, and
// what the keeper can do; "" when it counts.
func (t Told) PlaceProblem(name string) (says, todo string) { return t.d.places.Problem(name) }

// StandsFor tells whether a place's identity is the one that a name stands for, as
// far as is known.
func (t Told) StandsFor(name, id string) bool { return t.d.places.StandsFor(name, id) }

// Doubts tells what a plan allows on this device and its keeper hardly meant, as only
// the device can tell: ways that it has not, and places that lie where its files do.
func (t Told) Doubts(ctx context.Context, p *plan.Plan) (list []words.Doubt, err error) {
	for _, s := range p.Devices[t.d.Name].Sources {
		for _, rule := range s.Rules {
			for _, to := range p.Rules[rule].To {
				if dest := p.Destinations[to]; dest.Kind == plan.Folder && sameDisk(t.d.Folder(s.Folder), dest.Path) {
					list = append(list, words.SameDisk(to, s.Folder, t.d.Name, rule))
				}
			}
		}
	}
	if !ffmpeg.Here() {
		for _, name := range slices.Sorted(maps.Keys(p.Rules)) {
			if p.Follows(t.d.Name, name) && slices.ContainsFunc(p.Rules[name].To, func(to string) bool {
				_, reduced := p.Form(name, media.Video, to, plan.Main)
				return reduced
			}) {
				list = append(list, words.NoFFmpeg(t.d.Name, name))
			}
		}
	}
	more, err := t.Teller.Doubts(ctx, p)
	return append(list, more...), err
}

// sameDisk tells whether two folders lie on one disk, as far as the system tells.
func sameDisk(a, b string) bool {
	one, err := os.Stat(a)
	if err != nil {
		return false
	}
	other, err := os.Stat(b)
	return err == nil && scan.Disk(one) != 0 && scan.Disk(one) == scan.Disk(other)
}
