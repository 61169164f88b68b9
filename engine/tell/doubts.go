package tell

import (
	"context"
	"maps"
	"slices"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/words"
)

// Doubts tells what a plan allows on the device and its keeper hardly meant, as what is
// known of the device tells: ways that it has not.
func (t Teller) Doubts(ctx context.Context, p *plan.Plan) (list []words.Doubt, err error) {
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
	whole := p
	p = p.On(t.Of)
	used := map[string]bool{}
	for _, s := range p.Devices[t.Of].Sources {
		for _, rule := range s.Rules {
			used[rule] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(used)) {
		rule := p.Rules[name]
		for i, lane := range rule.Lanes {
			if lane.Over == plan.Cellular && now.known.Modem == gate.No {
				list = append(list, words.NoModem(t.Of, name, i, alone(whole, t.Of, name)))
			}
			limit := rule.AllowanceOver(lane.Over)
			for _, kind := range rule.Take {
				least, some := smallest[kind]
				if some && limit.Bytes > 0 && lane.Takes(kind) && least > allowance.Carries(limit.Bytes) {
					list = append(list, words.NoneFits(kind, t.Of, name, i, lane.Over, least, limit.Bytes))
				}
			}
		}
	}
	return list, nil
}

// alone tells whether one device, and no other, follows a rule.
func alone(p *plan.Plan, device, rule string) bool {
	for name := range p.Devices {
		if name != device && p.Follows(name, rule) {
			return false
		}
	}
	return true
}
