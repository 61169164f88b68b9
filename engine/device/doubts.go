package device

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/scan"
)

// Doubts tells what a plan allows on this device and its keeper hardly meant, as only
// the device can tell: ways that it has not, and places that lie where its files do.
func (d *Device) Doubts(ctx context.Context, p *plan.Plan) (says []string, err error) {
	now, err := d.Situation(ctx)
	if err != nil {
		return nil, err
	}
	smallest := map[media.Kind]int64{} // of what waits
	for class, bytes := range now.Smallest {
		if least, some := smallest[class.Kind]; !some || bytes < least {
			smallest[class.Kind] = bytes
		}
	}
	d.mu.Lock()
	modem := d.modem
	d.mu.Unlock()
	p = p.On(d.Name)
	add := func(format string, args ...any) { says = append(says, fmt.Sprintf(format, args...)) }
	used := map[string]bool{}
	for _, s := range p.Devices[d.Name].Sources {
		for _, rule := range s.Rules {
			used[rule] = true
			for _, to := range p.Rules[rule].To {
				if dest := p.Destinations[to]; dest.Kind == plan.Folder && sameDisk(d.Folder(s.Folder), dest.Path) {
					add("%s lies on the same disk as %s of %s: if that disk fails, both are lost.", to, s.Folder, d.Name)
				}
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(used)) {
		rule := p.Rules[name]
		for _, lane := range rule.Lanes {
			if lane.Over == plan.Cellular && modem == gate.No {
				add("%s has no modem: its lane over cellular in %s never opens.", d.Name, name)
			}
			limit := rule.AllowanceOver(lane.Over)
			for _, kind := range rule.Take {
				least, some := smallest[kind]
				if some && limit.Bytes > 0 && lane.Takes(kind) && least > allowance.Carries(limit.Bytes) {
					add("The smallest of the %s that wait on %s is %s: none fits into the allowance of %s over %s, %s.", kind.Plural(), d.Name, gate.Bytes(least), name, lane.Over.Label(), gate.Bytes(limit.Bytes))
				}
			}
		}
	}
	return says, nil
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
