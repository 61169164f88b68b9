package tell

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
)

// Doubts tells what a plan allows on the device and its keeper hardly meant, as what is
// known of the device tells: ways that it has not.
func (t Teller) Doubts(ctx context.Context, p *plan.Plan) (says []string, err error) {
	now, err := t.view(ctx)
	if err != nil {
		return nil, err
	}
	smallest := map[media.Kind]int64{} // of what waits
	for class, bytes := range now.Smallest {
		if least, some := smallest[class.Kind]; !some || bytes < least {
			smallest[class.Kind] = bytes
		}
	}
	p = p.On(t.Of)
	add := func(format string, args ...any) { says = append(says, fmt.Sprintf(format, args...)) }
	used := map[string]bool{}
	for _, s := range p.Devices[t.Of].Sources {
		for _, rule := range s.Rules {
			used[rule] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(used)) {
		rule := p.Rules[name]
		for _, lane := range rule.Lanes {
			if lane.Over == plan.Cellular && now.known.Modem == gate.No {
				add("%s has no modem: its lane over cellular in %s never opens.", t.Of, name)
			}
			limit := rule.AllowanceOver(lane.Over)
			for _, kind := range rule.Take {
				least, some := smallest[kind]
				if some && limit.Bytes > 0 && lane.Takes(kind) && least > allowance.Carries(limit.Bytes) {
					add("The smallest of the %s that wait on %s is %s: none fits into the allowance of %s over %s, %s.",
						kind.Plural(), t.Of, gate.Bytes(least), name, lane.Over.Label(), gate.Bytes(limit.Bytes))
				}
			}
		}
	}
	return says, nil
}
