package plan

import (
	"slices"
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
		Format: 2, Yard: p.Yard, Timezone: p.Timezone, Destinations: map[string]Destination{},
		Devices: map[string]Device{device: d}, Rules: map[string]Rule{},
		HomeNetworks: p.HomeNetworks, SilentAfter: p.SilentAfter,
	}
	if d.Person != "" {
		part.People = []string{d.Person}
	}
	use := func(r Rule, lanes []Lane) {
		r.Lanes = slices.Concat(r.Lanes, lanes)
		for _, name := range r.forms() {
			if name == "" || name == AsShot {
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
		r.To, r.As = own.Rules[name].To, own.Rules[name].As
		return r
	}
	for _, s := range d.Sources {
		for _, name := range s.Rules {
			part.Rules[name] = rule(name)
		}
	}
	if r := d.NewFolders; r != "" && r != LeaveFolders {
		part.Rules[r] = rule(r)
	}
	for _, c := range d.Cards {
		for _, name := range c.Rules {
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
