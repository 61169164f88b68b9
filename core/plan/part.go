package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// PartOf is what concerns one device: it alone, the rules that its sources follow, and
// the destinations that those send to. Secrets are kept with the device. nil when the
// plan does not name the device.
func (p *Plan) PartOf(device string) *Plan {
	d, named := p.Devices[device]
	if !named {
		return nil
	}
	own := p.On(device) // a person's places have names there
	part := &Plan{
		Format: 2, Yard: p.Yard, Timezone: p.Timezone, Destinations: map[string]Destination{}, Devices: map[string]Device{device: d}, Rules: map[string]Rule{},
		HomeNetworks: p.HomeNetworks, SilentAfter: p.SilentAfter,
	}
	if d.Person != "" {
		part.People = []string{d.Person}
	}
	use := func(r Rule, lanes []Lane) {
		names := slices.Collect(maps.Values(r.Send))
		names = append(names, r.Previews)
		for _, l := range slices.Concat(r.Lanes, lanes) {
			names = append(names, l.Send)
		}
		for _, name := range names {
			if name == "" {
				continue
			}
			if part.Renditions == nil {
				part.Renditions = map[string]Rendition{}
			}
			part.Renditions[name] = p.Renditions[name]
		}
	}
	rule := func(name string) Rule {
		r := p.Rules[name] // with what the device has otherwise beside it
		r.To = own.Rules[name].To
		return r
	}
	for _, s := range d.Sources {
		for _, name := range s.Rules {
			part.Rules[name] = rule(name)
		}
	}
	for name := range d.Rules {
		part.Rules[name] = rule(name)
	}
	for name, r := range part.Rules {
		use(r, d.Rules[name].Lanes)
		for _, to := range r.To {
			dest := p.Destinations[to]
			if dest.PasswordFrom != "" {
				dest.PasswordFrom = Secret("kept:" + to)
			}
			if dest.KeyFrom != "" {
				dest.KeyFrom = Secret("kept:" + to)
			}
			part.Destinations[to] = dest
		}
	}
	return part
}

// Write writes a plan that was read, or is a part of one: Parse reads the same plan.
func (p *Plan) Write() string {
	var w strings.Builder
	line := func(indent int, format string, args ...any) {
		fmt.Fprintf(&w, strings.Repeat(" ", indent)+format+"\n", args...)
	}
	line(0, "format: 2\nyard: %s\ntimezone: %s", quoted(p.Yard), quoted(p.Timezone))
	if len(p.HomeNetworks) > 0 {
		line(0, "home-networks: %s", flowList(p.HomeNetworks))
	}
	if len(p.People) > 0 {
		line(0, "people: %s", flowList(p.People))
	}
	if p.SilentAfter > 0 {
		line(0, "silent-after: %s", p.SilentAfter)
	}
	if len(p.Renditions) > 0 {
		line(0, "renditions:")
		for _, name := range slices.Sorted(maps.Keys(p.Renditions)) {
			line(2, "%s: %s", quoted(name), p.Renditions[name].written())
		}
	}
	line(0, "destinations:")
	for _, name := range slices.Sorted(maps.Keys(p.Destinations)) {
		line(2, "%s:", quoted(name))
		for _, f := range written(p.Destinations[name]) {
			line(4, "%s: %s", f[0], f[1])
		}
	}
	line(0, "devices:")
	for _, name := range slices.Sorted(maps.Keys(p.Devices)) {
		d := p.Devices[name]
		line(2, "%s:", quoted(name))
		if d.Timezone != "" {
			line(4, "timezone: %s", quoted(d.Timezone))
		}
		if len(d.Limit) > 0 {
			line(4, "limit: %q", d.Limit.String())
		}
		if d.Person != "" {
			line(4, "person: %s", quoted(d.Person))
		}
		if d.UnknownNetwork != "" {
			line(4, "unknown-network: %s", d.UnknownNetwork)
		}
		if d.Awake != "" {
			line(4, "awake: %s", d.Awake)
		}
		if when := d.AwakeWhen.written(); when != "" {
			line(4, "awake-when: %s", when)
		}
		if d.InFrontOnly {
			line(4, "in-front-only: true")
		}
		line(4, "sources:")
		for _, s := range d.Sources {
			line(6, "- %s", s.written())
		}
		if len(d.Rules) == 0 {
			continue
		}
		line(4, "rules:")
		for _, rule := range slices.Sorted(maps.Keys(d.Rules)) {
			line(6, "%s: %s", quoted(rule), d.Rules[rule].written())
		}
	}
	line(0, "rules:")
	for _, name := range slices.Sorted(maps.Keys(p.Rules)) {
		line(2, "%s: %s", quoted(name), p.Rules[name].written())
	}
	return w.String()
}
