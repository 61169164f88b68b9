package plantext_test

import (
	"slices"

	"github.com/goccy/go-yaml"
	"pgregory.net/rapid"
)

type m = map[string]any

// drawn is any plan, as a keeper's text has it, in one of several ways of writing.
var drawn = rapid.Custom(func(t *rapid.T) string {
	pick := func(label string, of ...string) string { return rapid.SampledFrom(of).Draw(t, label) }
	some := func(label string, of ...string) []string {
		return rapid.SliceOfNDistinct(rapid.SampledFrom(of), 1, len(of), rapid.ID).Draw(t, label)
	}
	maybe := func(into m, key string, value func() any) {
		if rapid.Bool().Draw(t, key) {
			into[key] = value()
		}
	}
	kinds := func() any { return some("kinds", "photo", "raw", "graphic", "video", "audio", "document", "other") }
	gates := func() any {
		g := m{"idle": rapid.Bool().Draw(t, "idle")}
		maybe(g, "power", func() any {
			return pick("power", "charging", "at least 40%", "charging or at least 5%", "charging and at least 90%",
				"charging for 30 min", "charging for 5 min or at least 50%", "any")
		})
		maybe(g, "unused-for", func() any { return pick("unused", "10 min", "any") })
		maybe(g, "rest", func() any { return pick("rest", "45 min", "any") })
		maybe(g, "screen", func() any { return pick("screen", "off", "any") })
		maybe(g, "battery-saver", func() any { return pick("saver", "off", "any") })
		maybe(g, "hours", func() any { return pick("hours", "06:00-23:00", "22:00-06:00, 12:00-13:30") })
		return g
	}
	places := []string{"shed", "locker"}
	rules, names := m{}, some("rules", "everyday", "films", "raw.files")
	for _, name := range names {
		lanes := []any{}
		for _, over := range some("over", "wifi", "wired", "cellular") {
			lane := m{"over": over}
			if over == "wifi" {
				maybe(lane, "named", func() any { return some("named", "Slip", "Boat: house", "7") })
				maybe(lane, "not-named", func() any { return some("not", "Harbour Café", "#1") })
				maybe(lane, "home-only", func() any { return rapid.Bool().Draw(t, "home") })
			}
			if over == "cellular" {
				maybe(lane, "metered-wifi", func() any { return true })
				if rapid.Bool().Draw(t, "roams") {
					lane["roaming"], lane["roaming-allowance"] = true, "5 MB per day"
				}
			}
			maybe(lane, "allowance", func() any { return pick("allowance", "45 MB per day", "2 GB per month") })
			lanes = append(lanes, lane)
		}
		take := kinds()
		r := m{"take": take, "to": some("to", places...), "lanes": lanes}
		if slices.Contains(take.([]string), "video") {
			maybe(r, "send", func() any { return m{"video": "clips"} })
		}
		if slices.Contains(take.([]string), "photo") {
			maybe(r, "send", func() any { return m{"photo": pick("form", "family", "small")} })
		}
		maybe(r, "gates", gates)
		maybe(r, "order", func() any { return pick("order", "newest", "oldest", "smallest") })
		maybe(r, "larger-than", func() any { return pick("larger", "2 GB", "1 B") })
		maybe(r, "longer-than", func() any { return "10 min" })
		rules[name] = r
	}
	devices := m{}
	for _, device := range some("devices", "phone", "desk") {
		sources := []any{}
		for _, folder := range some("folders", "DCIM", "PICTURES/Boats", "/srv/scans", "ünï: [x]", "#4") {
			s := m{"folder": folder}
			if follows := some("follows", names...); len(follows) == 1 {
				s["rule"] = follows[0]
			} else {
				s["rules"] = follows
			}
			maybe(s, "leave-out", func() any { return some("out", "*.tmp", "Screenshots/", "!kept", "it's") })
			maybe(s, "hidden", func() any { return rapid.Bool().Draw(t, "h") })
			maybe(s, "largest", func() any { return "4 GB" })
			maybe(s, "taken-from", func() any { return "2020-01-01" })
			sources = append(sources, s)
		}
		d := m{"sources": sources}
		maybe(d, "person", func() any { return pick("person", "ines", "tom") })
		maybe(d, "unknown-network", func() any { return "treat as wifi" })
		if rapid.Bool().Draw(t, "awake") {
			d["awake"] = "while sending"
			maybe(d, "awake-when", gates)
		}
		maybe(d, "room", func() any {
			return m{"free": "20 GB", "keep": pick("keep", "90 days", "small", "1 day, small"), "places": 1, "held": "3 days"}
		})
		maybe(d, "in-front-only", func() any { return rapid.Bool().Draw(t, "front") })
		devices[device] = d
	}
	whole := m{"yard": "Slip", "timezone": "UTC", "destinations": m{"shed": m{"kind": "folder", "path": "/media/shed"},
		"locker": m{"kind": "folder", "path": "/media/locker"}}, "devices": devices, "rules": rules}
	whole["people"] = []string{"ines", "tom"}
	whole["renditions"] = m{"family": m{"long-edge": rapid.IntRange(16, 9000).Draw(t, "edge"),
		"quality": rapid.IntRange(30, 100).Draw(t, "quality")}, "clips": m{"height": rapid.IntRange(144, 4320).Draw(t,
		"height"), "fps": rapid.IntRange(1, 240).Draw(t, "fps"), "codec": pick("codec", "h264", "h265")},
		"small": m{"megapixels": rapid.SampledFrom([]float64{2, 0.5}).Draw(t, "mp"),
			"format": pick("format", "keep", "jpeg")}}
	maybe(whole, "home-networks", func() any { return some("home", "Slip", "Boat: house") })
	maybe(whole, "silent-after", func() any { return pick("silent", "1 day", "5 days") })
	maybe(whole, "format", func() any { return 2 })
	text, err := yaml.MarshalWithOptions(whole, yaml.Flow(rapid.Bool().Draw(t, "flow")),
		yaml.IndentSequence(rapid.Bool().Draw(t, "indented")))
	if err != nil {
		panic(err)
	}
	return "# ours\n" + string(text)
})
