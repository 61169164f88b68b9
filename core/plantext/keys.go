package plantext

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/room"
)

// This file declares every key of the plan, part by part.

var planPart = part[plan.Plan]{name: "plan", title: "The plan", check: checkPlan, keys: []key[plan.Plan]{
	number(Key{Name: "format", Least: 1, Most: 2, Default: "1",
		Says: "2: photo takes photos alone. 1, or left out: photo takes raw files and graphics, too."},
		func(p *plan.Plan) *int { return &p.Format }),
	text(Key{Name: "yard", Needed: true, Label: "Name of the household",
		Says: "The name of this household's installation."}, nil,
		func(p *plan.Plan) *string { return &p.Yard }),
	zone(Key{Name: "timezone", Needed: true, Label: "Time zone",
		Says: "IANA time zone that hours and allowances are decided in, unless a device has its own."},
		func(p *plan.Plan) *string { return &p.Timezone }),
	named(Key{Name: "destinations", Named: "destination", Needed: true, Says: "The storages that copies go to, by name."},
		destinationPart,
		func(p *plan.Plan) *map[string]plan.Destination { return &p.Destinations }),
	named(Key{Name: "devices", Named: "device", Needed: true,
		Says: "Phones and computers whose folders are taken up, by name."}, devicePart,
		func(p *plan.Plan) *map[string]plan.Device { return &p.Devices }),
	named(Key{Name: "rules", Named: "rule", Needed: true, Says: "How the items of a source are treated, by name."},
		rulePart,
		func(p *plan.Plan) *map[string]plan.Rule { return &p.Rules }),
	named(Key{Name: "renditions", Named: "rendition",
		Says: "Forms in which rules may send, by name: reduced to limits of their own."}, renditionPart,
		func(p *plan.Plan) *map[string]plan.Rendition { return &p.Renditions }),
	list(Key{Name: "home-networks", Examples: []string{"Slip"}, Label: "Networks at home",
		Says: "The names of the Wi-Fi networks at home: a lane may be open there only."},
		func(p *plan.Plan) *[]string { return &p.HomeNetworks }, aNetwork),
	list(Key{Name: "people", Examples: []string{"ines"}, Says: "The people whose devices they are, by a short name each."},
		func(p *plan.Plan) *[]string { return &p.People },
		func(r *reader, n ast.Node, word string, before []string) {
			if !plan.IsName(word) || slices.Contains(before, word) {
				r.note(n, "would be a short name of letters, digits, dots and dashes, once", "%q is not the name of a person here",
					word)
			}
		}),
	parsed(Key{Name: "silent-after", Default: plan.DefaultSilentAfter.String(), Pattern: plan.DaysForm.String(),
		Examples: []string{"3 days"}, Says: "How long a device may be silent before you are told."},
		plan.ParseDays, func(p *plan.Plan) *plan.Days { return &p.SilentAfter }),
}}

var destinationPart = part[plan.Destination]{name: "destination", title: "A destination", check: checkDestination,
	keys: []key[plan.Destination]{
		word(Key{Name: "kind", Needed: true, Words: plainWords(plan.Folder, plan.WebDAV, plan.SFTP, plan.S3),
			Says: "Which sort of storage it is."}, "a kind of destination",
			func(d *plan.Destination) *plan.DestinationKind { return &d.Kind }),
		text(Key{Name: "path", Says: "folder: the absolute path of the folder. sftp: of the folder that copies go into, " +
			"relative to the user's home. s3: what the names of all objects begin with."}, nil,
			func(d *plan.Destination) *string { return &d.Path }),
		text(Key{Name: "url", Says: "webdav: the address of the collection that copies go into. s3: that of the storage."},
			checkURL,
			func(d *plan.Destination) *string { return &d.URL }),
		text(Key{Name: "bucket", Says: "s3: the bucket that copies go into; it must be there."}, checkBucket,
			func(d *plan.Destination) *string { return &d.Bucket }),
		text(Key{Name: "region", Default: "us-east-1", Says: "s3: the region, if the storage has several."}, nil,
			func(d *plan.Destination) *string { return &d.Region }),
		text(Key{Name: "address", Says: "sftp: the server as host:port."}, checkAddress,
			func(d *plan.Destination) *string { return &d.Address }),
		text(Key{Name: "host-key", Pattern: hostKeyForm.String(),
			Says: "sftp: the fingerprint of the server's key as ssh-keygen -l prints it."}, checkHostKey,
			func(d *plan.Destination) *string { return &d.HostKey }),
		text(Key{Name: "authority", Says: "webdav and s3 over https: a PEM file with certificates that are trusted " +
			"beside the system's."}, checkAuthority,
			func(d *plan.Destination) *string { return &d.Authority }),
		text(Key{Name: "certificate", Pattern: certificateForm.String(),
			Says: "webdav and s3 over https: the fingerprint of the one certificate that is trusted."}, checkCertificate,
			func(d *plan.Destination) *string { return &d.Certificate }),
		text(Key{Name: "user", Says: "webdav and sftp: the name to sign in with. s3: the access key."}, nil,
			func(d *plan.Destination) *string { return &d.User }),
		text(Key{Name: "password-from", Pattern: secretForm, Examples: secretExamples,
			Says: "Where the password (s3: the secret key) is kept: kept:NAME, env:NAME or file:/absolute/path. Never the " +
				"secret itself."}, checkSecret,
			func(d *plan.Destination) *plan.Secret { return &d.PasswordFrom }),
		text(Key{Name: "key-from", Pattern: secretForm, Examples: secretExamples,
			Says: "sftp: where the private key is kept, in the same way."}, checkSecret,
			func(d *plan.Destination) *plan.Secret { return &d.KeyFrom }),
		layout(Key{Name: "layout", Default: plan.DefaultLayout, Label: "Names there",
			Says: "Where an item lands: {year} {month} {day} {hour} {minute} {second} of when it was taken, {device} " +
				"{source} {folder} (below the source) {kind}, and {name} last."}),
		number(Key{Name: "senders", Least: 1, Most: 16, Default: fmt.Sprint(plan.DefaultSenders),
			Says: "How many copies each device sends here at the same time. Files up to 256 KiB count an eighth each, " +
				"unless it is 1."},
			func(d *plan.Destination) *int { return &d.Senders }),
		parsed(Key{Name: "keep-free", Pattern: plan.SizeForm.String(), Examples: []string{"20 GB", "2 TB"},
			Says: "Room that is never filled."}, plan.ParseSize,
			func(d *plan.Destination) *plan.Size { return &d.KeepFree }),
		parsed(Key{Name: "size", Pattern: plan.SizeForm.String(), Examples: []string{"20 GB", "2 TB"},
			Says: "What the storage holds in all, where it does not tell its space."}, plan.ParseSize,
			func(d *plan.Destination) *plan.Size { return &d.Size }),
	}}

// The bounds of a rendition.
const (
	leastEdge                       = 16
	leastQuality                    = 30
	leastMegapixels, mostMegapixels = 0.01, 1000
	leastHeight, mostHeight         = 144, 4320
	mostFPS                         = 240
)

const secretForm = `^(kept:.+|env:.+|file:/.+)$`

var secretExamples = []string{"kept:north-locker", "env:LOCKER_PASSWORD", "file:/home/me/.locker-password"}

var devicePart = part[plan.Device]{name: "device", title: "A device", check: checkDevice, keys: []key[plan.Device]{
	zone(Key{Name: "timezone", Label: "Time zone", Empty: "the yard's", Examples: []string{"Europe/Lisbon"},
		Says: "Its own time zone, in the place of the yard's."},
		func(d *plan.Device) *string { return &d.Timezone }),
	text(Key{Name: "person", Points: "person", Label: "Whose it is", Empty: "nobody's in particular",
		Examples: []string{"ines"}, Says: "Whose it is, of the people of the plan; {person} in a rule's destinations " +
			"stands for it."}, nil,
		func(d *plan.Device) *string { return &d.Person }),
	word(Key{Name: "unknown-network", Words: []Word{{string(plan.AsWiFi), ""}},
		Label: "A network that it cannot tell counts as Wi-Fi", Says: "What a network counts as where the device cannot " +
			"tell which it is; else it opens nothing."}, "what an unknown network counts as",
		func(d *plan.Device) *plan.UnknownAs { return &d.UnknownNetwork }),
	yes(Key{Name: "in-front-only", Label: "It works only while its program is open",
		Says: "It works only while its program is open in front: what waits says so."},
		func(d *plan.Device) *bool { return &d.InFrontOnly }),
	word(Key{Name: "awake", Words: []Word{{string(plan.AwakeWhileSending), ""}}, Label: "Kept awake while it sends",
		Says: "Keep its system from sleeping while something is sent; the screen may go dark."}, "a time to be kept awake",
		func(d *plan.Device) *plan.Awake { return &d.Awake }),
	within(Key{Name: "awake-when", Says: "Only under these conditions it is kept awake."}, gatesPart,
		func(d *plan.Device) *plan.Gates { return &d.AwakeWhen }),
	parsed(Key{Name: "limit", Pattern: `^.+/s.*$`, Examples: []string{"2 MB/s", "1 MB/s at 08:00-22:00; 5 MB/s"},
		Label: "How fast it may send", Empty: "no bound", Says: "How fast it may send, over all its destinations; with " +
			"hours, the first that fits counts."}, plan.ParseLimits,
		func(d *plan.Device) *plan.Limits { return &d.Limit }),
	parts(Key{Name: "sources", Needed: true, Says: "The folders that are taken up."}, sourcePart,
		func(d *plan.Device) *[]plan.Source { return &d.Sources }),
	list(Key{Name: "let-be", Examples: []string{"Downloads", "PICTURES/Icons"}, Label: "Folders that are let be",
		Empty: "none", Says: "Folders whose pictures and clips are not taken up, on purpose: strays are not told of there."},
		func(d *plan.Device) *[]string { return &d.LetBe }, nil),
	newFolders(Key{Name: "new-folders", Examples: []string{plan.LeaveFolders, "everyday"}, Default: askFolders,
		Label: "Folders with pictures that appear", Empty: askFolders,
		Says: "What is done when a folder with pictures or clips appears beside the sources: ask, leave, or the rule that " +
			"takes it up by itself."}),
	named(Key{Name: "cards", Named: "volume",
		Says: "What is done with memory cards, cameras and phones on a cable, by the identity of each; any stands for those " +
			"without an answer of their own. Without an answer it is asked for, and nothing is done."}, cardPart,
		func(d *plan.Device) *map[string]plan.Card { return &d.Cards }),
	within(Key{Name: "room", Says: "What goes from it by itself to make room, once it is proven elsewhere. Without it nothing " +
		"is removed unless you ask."}, roomPart,
		func(d *plan.Device) *plan.Room { return &d.Room }),
	named(Key{Name: "rules", Named: "rule", Points: "rule",
		Says: "What this device has otherwise than a rule says, by the rule's name."}, overridePart,
		func(d *plan.Device) *map[string]plan.Override { return &d.Rules }),
}}

var sourcePart = part[plan.Source]{name: "source", title: "A source of a device", check: checkSource,
	label: func(r *reader, _ string) string { return "a source of " + strings.TrimPrefix(r.where, "device ") },
	keys: []key[plan.Source]{
		folder(Key{Name: "folder", Needed: true, Examples: []string{"DCIM", "PICTURES/Boats"},
			Says: "A folder below the device's own root (a phone's storage or a home folder), or an absolute path; or " +
				"begins with PICTURES, VIDEOS, DOCUMENTS, DESKTOP, DOWNLOAD, MUSIC or CAMERA, which stand for the folders " +
				"that the device has for them."}),
		list(Key{Name: "rules", Single: "rule", Points: "rule",
			Says: "The rules that its items follow: the first that takes an item counts. With one, rule stands for it."},
			func(s *plan.Source) *[]string { return &s.Rules },
			func(r *reader, n ast.Node, word string, before []string) {
				if slices.Contains(before, word) {
					r.note(n, "would name each rule once", "rule %q stands here twice", word)
				}
			}),
		list(Key{Name: "leave-out", Examples: []string{"Screenshots/", "*.tmp"}, Label: "Leave out", Empty: "nothing",
			Says: "Patterns (the gitignore language) of what is left out; the last that fits counts, and one with ! takes " +
				"up again."},
			func(s *plan.Source) *[]string { return &s.LeaveOut }, aPattern),
		list(Key{Name: "only", Examples: []string{"*.jpg", "Boats/"}, Label: "Only what fits", Empty: "everything",
			Says: "Patterns (the gitignore language): only what one of them fits is taken up."},
			func(s *plan.Source) *[]string { return &s.Only }, aPattern),
		list(Key{Name: "originals-only", Examples: []string{"Old boats.boatcase", "."}, Label: "Only originals of",
			Empty: "none", Says: "Closed libraries in the folder, . for the folder itself: of these no smaller version of a " +
				"picture is taken that is there larger, nor what lies in a cache."},
			func(s *plan.Source) *[]string { return &s.OriginalsOnly }, aFolderBelow),
		parsed(Key{Name: "smallest", Pattern: plan.SizeForm.String(), Examples: []string{"10 kB"}, Label: "Smallest file",
			Empty: "any", Says: "Only files of this size on."}, plan.ParseSize,
			func(s *plan.Source) *plan.Size { return &s.Smallest }),
		parsed(Key{Name: "largest", Pattern: plan.SizeForm.String(), Examples: []string{"4 GB"}, Label: "Largest file",
			Empty: "any", Says: "Only files up to this size."}, plan.ParseSize,
			func(s *plan.Source) *plan.Size { return &s.Largest }),
		day(Key{Name: "taken-from", Label: "Taken from", Says: "Only what was taken from this day on."},
			func(s *plan.Source) *plan.Date { return &s.TakenFrom }),
		day(Key{Name: "taken-until", Label: "Taken until", Says: "Only what was taken until this day."},
			func(s *plan.Source) *plan.Date { return &s.TakenUntil }),
		day(Key{Name: "new-since", Label: "Only what came from this day on",
			Says: "Only what came into the folder from this day on."}, func(s *plan.Source) *plan.Date { return &s.NewSince }),
		yes(Key{Name: "hidden", Label: "Hidden files, too",
			Says: "Take up hidden files and folders, too: those whose name begins with a dot."},
			func(s *plan.Source) *bool { return &s.Hidden }),
	}}

// mostPlaces is at how many places a device's items may be asked to be proven.
const mostPlaces = 9

var roomPart = part[plan.Room]{name: "room", title: "Room on a device",
	label: func(r *reader, _ string) string { return "the room of " + strings.TrimPrefix(r.where, "device ") },
	keys: []key[plan.Room]{
		parsed(Key{Name: "free", Pattern: plan.SizeForm.String(), Examples: []string{"20 GB"}, Label: "Until this is free",
			Empty: "nothing", Says: "How much is to be free on each of its disks: the oldest go until it is."}, plan.ParseSize,
			func(m *plan.Room) *plan.Size { return &m.Free }),
		parsed(Key{Name: "keep", Pattern: plan.KeepForm.String(), Examples: []string{"90 days", "small", "90 days, small"},
			Label: "What stays", Empty: "nothing", Says: "What stays: what was taken in the last days, and with small a smaller " +
				"picture in the place of each that goes."}, plan.ParseKeep,
			func(m *plan.Room) *plan.Keep { return &m.Keep }),
		number(Key{Name: "places", Least: 1, Most: mostPlaces, Default: fmt.Sprint(room.DefaultPlaces), Examples: []string{"2"},
			Label: "Proven at so many places", Empty: fmt.Sprint(room.DefaultPlaces), Says: "At how many places each is proven " +
				"before it goes, and as shot at one of them."},
			func(m *plan.Room) *int { return &m.Places }),
		parsed(Key{Name: "held", Pattern: plan.DaysForm.String(), Default: plan.Days(room.DefaultHeld).String(),
			Examples: []string{"7 days"}, Label: "Days in the holding place", Empty: plan.Days(room.DefaultHeld).String(),
			Says: "How long what goes lies in the holding place, from where it can be taken back at once."}, plan.ParseDays,
			func(m *plan.Room) *plan.Days { return &m.Held }),
	}}

var cardPart = part[plan.Card]{name: "card", title: "What is done with a card",
	label: func(r *reader, id string) string {
		return "the card " + id + " of " + strings.TrimPrefix(r.where, "device ")
	},
	check: checkCard,
	keys: []key[plan.Card]{
		text(Key{Name: "name", Label: "Its name", Examples: []string{"The club's camera"}, Says: "What people call it."}, nil,
			func(c *plan.Card) *string { return &c.Name }),
		yes(Key{Name: "leave", Label: "Leave it", Says: "It is left alone, and not asked about again."},
			func(c *plan.Card) *bool { return &c.Leave }),
		list(Key{Name: "rules", Single: "rule", Points: "rule", Label: "Take it up by",
			Says: "It is a source that follows these rules, each time it comes. While it is away, its items wait."},
			func(c *plan.Card) *[]string { return &c.Rules }, nil),
		text(Key{Name: "copy-to", Label: "Copy its new pictures to", Examples: []string{"PICTURES/Cards"},
			Says: "A folder of the device: what is new on the card is copied into it first, a folder for each day, each file " +
				"compared with the card's before it counts. Nothing is moved, and nothing is removed from the card."}, nil,
			func(c *plan.Card) *string { return &c.CopyTo }),
	}}

var overridePart = part[plan.Override]{name: "override", title: "What a device has otherwise than a rule says",
	label: func(r *reader, rule string) string {
		return "what " + strings.TrimPrefix(r.where, "device ") + " has otherwise of " + rule
	},
	check: func(r *reader, _ ast.Node, at map[string]ast.Node, o *plan.Override) {
		checkLanes(r, at["lanes"], o.Lanes)
	},
	keys: []key[plan.Override]{
		parts(Key{Name: "lanes", Says: "In place of the rule's."}, lanePart,
			func(o *plan.Override) *[]plan.Lane { return &o.Lanes }),
		within(Key{Name: "gates", Says: "In place of the rule's of the same name."}, gatesPart,
			func(o *plan.Override) *plan.Gates { return &o.Gates }),
	}}

var renditionPart = part[plan.Rendition]{name: "rendition", title: "A rendition", check: checkRendition,
	keys: []key[plan.Rendition]{
		number(Key{Name: "long-edge", Least: leastEdge, Most: 65535, Examples: []string{"2560"},
			Label: "Pixels of the longer edge, at most", Empty: "any", Says: "Pixels of a picture's longer edge, at most."},
			func(r *plan.Rendition) *int { return &r.LongEdge }),
		megapixels(Key{Name: "megapixels", Least: leastMegapixels, Most: mostMegapixels, Examples: []string{"3", "0.5"},
			Label: "Megapixels, at most", Empty: "any", Says: "Millions of pixels, at most."}),
		number(Key{Name: "quality", Least: leastQuality, Most: 100, Default: fmt.Sprint(plan.DefaultQuality),
			Examples: []string{"75"}, Label: "Quality of a JPEG", Empty: fmt.Sprint(plan.DefaultQuality),
			Says: "How much of the detail a JPEG keeps."},
			func(r *plan.Rendition) *int { return &r.Quality }),
		number(Key{Name: "height", Least: leastHeight, Most: mostHeight, Examples: []string{"720"},
			Label: "Clips: pixels of the shorter edge, at most", Empty: "any", Says: "Of clips: pixels of the shorter " +
				"edge, at most, such as 1080 or 720."},
			func(r *plan.Rendition) *int { return &r.Height }),
		number(Key{Name: "fps", Least: 1, Most: mostFPS, Examples: []string{"30"}, Label: "Clips: pictures a second, at most",
			Empty: "any", Says: "Of clips: pictures a second, at most."},
			func(r *plan.Rendition) *int { return &r.FPS }),
		parsed(Key{Name: "bitrate", Pattern: plan.BitrateForm.String(), Examples: []string{"4 Mbit/s", "800 kbit/s"},
			Label: "Clips: how much a second may take", Empty: "what the quality makes", Says: "Of clips: how much a " +
				"second of them may take."}, plan.ParseBitrate,
			func(r *plan.Rendition) *plan.Bitrate { return &r.Bitrate }),
		word(Key{Name: "codec", Words: []Word{{string(plan.H264), "H.264, which everything shows"},
			{string(plan.H265), "H.265, which takes fewer bytes and more time"}}, Default: string(plan.H264),
			Label: "Clips are written as", Says: "Of clips: how they are written. h265 takes fewer bytes, more time, and " +
				"is not shown everywhere."}, "a codec",
			func(r *plan.Rendition) *plan.Codec { return &r.Codec }),
		word(Key{Name: "format", Words: []Word{{string(plan.KeepFormat), "as they are"}, {string(plan.JPEG), "JPEG"},
			{string(plan.Both), "HEIC as shot, and a JPEG beside"}}, Default: string(plan.KeepFormat),
			Label: "Pictures of other formats go as", Says: "jpeg: pictures of other formats become JPEG, unless something " +
				"in them is transparent. both: HEIC goes as shot, and a JPEG of it beside."}, "a format",
			func(r *plan.Rendition) *plan.Format { return &r.Format }),
		word(Key{Name: "facts", Words: []Word{{string(plan.AllFacts), "all"}, {string(plan.NoPlace), "all but the place"},
			{string(plan.TimeOnly), "the time only"}}, Default: string(plan.AllFacts), Label: "Tells of its facts",
			Says: "no place: where it was taken is left out. time only: everything but when it was taken and its colours."},
			"what is told of facts",
			func(r *plan.Rendition) *plan.Facts { return &r.Facts }),
		word(Key{Name: "colours", Words: []Word{{string(plan.KeepColours), "as they are"},
			{string(plan.SRGB), "sRGB, which every screen shows"}}, Default: string(plan.KeepColours), Label: "Colours become",
			Says: "srgb: colours of other profiles are converted to those that every screen shows."}, "what colours become",
			func(r *plan.Rendition) *plan.Colours { return &r.Colours }),
	}}

var rulePart = part[plan.Rule]{name: "rule", title: "A rule", check: checkRule, keys: []key[plan.Rule]{
	kinds(Key{Name: "take", Needed: true, Words: plainWords(append(slices.Clone(media.Kinds), media.Everything)...),
		Label: "Takes", Says: "Which kinds of files it takes, by their content."},
		func(r *plan.Rule) *[]media.Kind { return &r.Take }),
	places(Key{Name: "to", Needed: true, Points: "destination", As: "rendition", Label: "Goes to",
		Examples: []string{"tool-shed", "north-locker as family", "tool-shed as shot"},
		Says: "Destinations; an item is safe when every one of them has it. One with `as` and a rendition gets that form of " +
			"it, where the rendition says something of its kind; with `as shot` it gets the file itself, whatever send says."}),
	sends(Key{Name: "send", Named: "kind", Points: "rendition", Words: plainWords(plan.Reducible...), Empty: "as shot",
		Says: "In which of the renditions a kind goes (photo, graphic, video); the others go as shot."}),
	list(Key{Name: "companions", Words: []Word{{string(media.RawBeside), "raw files"},
		{string(media.ClipBeside), "clips of stills"}, {string(media.Sidecar), "sidecars"}, {string(plan.NoCompanion),
			"nothing"}}, Label: "Files that go with a picture", Empty: "those whose kind it takes, and sidecars",
		Says: "Which parts go with an item: the raw of a picture, the clip of a still, sidecars. Left out: those whose " +
			"kind the rule takes, and sidecars; none is [none]."},
		func(r *plan.Rule) *[]media.Companion { return &r.Companions }, aCompanion),
	rendered(Key{Name: "previews", Label: "Previews, in the folder previews", Empty: "none",
		Says: "A rendition: a small picture of each is put beside, in the folder previews."}, media.Photo,
		func(r *plan.Rule) *string { return &r.Previews }),
	parts(Key{Name: "also", Label: "Pick by a mark", Says: "What carries a mark goes under a second layout, too."},
		alsoPart,
		func(r *plan.Rule) *[]plan.Also { return &r.Also }),
	yes(Key{Name: "bursts", Label: "A clip of shots in a row",
		Says: "Of shots in a row that look alike a short clip is made, beside them: an item of its own."},
		func(r *plan.Rule) *bool { return &r.Bursts }),
	parts(Key{Name: "lanes", Needed: true, Label: "Goes over, the first that is open",
		Says: "The allowed ways to send. The first open one is used."}, lanePart,
		func(r *plan.Rule) *[]plan.Lane { return &r.Lanes }),
	within(Key{Name: "gates", Says: "Conditions for every lane of this rule."}, gatesPart,
		func(r *plan.Rule) *plan.Gates { return &r.Gates }),
	parsed(Key{Name: "larger-than", Pattern: plan.SizeForm.String(), Examples: []string{"2 GB"},
		Label: "Only files larger than", Empty: "any", Says: "Only files that are larger, or longer than longer-than."},
		plan.ParseSize,
		func(r *plan.Rule) *plan.Size { return &r.LargerThan }),
	parsed(Key{Name: "longer-than", Pattern: plan.MinutesForm.String(), Examples: []string{"10 min"},
		Label: "Only clips longer than", Empty: "any", Says: "Only clips that last longer, or files larger than " +
			"larger-than."}, plan.ParseMinutes,
		func(r *plan.Rule) *plan.Minutes { return &r.LongerThan }),
	word(Key{Name: "order", Words: []Word{{string(plan.NewestFirst), "the newest"},
		{string(plan.OldestFirst), "the oldest"}, {string(plan.SmallestFirst), "the smallest"}},
		Default: string(plan.NewestFirst), Label: "What goes first", Says: "What goes first."}, "an order",
		func(r *plan.Rule) *plan.Order { return &r.Order }),
	word(Key{Name: "on-clash", Words: []Word{{string(plan.NameClash), ""}, {string(plan.SkipClash), ""}},
		Default: string(plan.NameClash), Label: "Do not send what finds its name taken", Says: "Where something else " +
			"has the name: a name that says so, or it is not sent."}, "what happens on a clash",
		func(r *plan.Rule) *plan.Clash { return &r.OnClash }),
	word(Key{Name: "versions", Words: []Word{{string(plan.KeepVersions), "every version that was sent"},
		{string(plan.NewestVersion), "the newest version alone"}}, Default: string(plan.KeepVersions),
		Label: "Of edited files counts", Says: "A file that is edited is sent again, beside its older version. keep: the " +
			"older version counts as an item and is proven again, too. newest: it stays where it lies, and is not counted, " +
			"proven again or missed."}, "which versions are kept",
		func(r *plan.Rule) *plan.Versions { return &r.Versions }),
	yes(Key{Name: "store-each", Label: "Store equal files from several places each",
		Says: "Also store a file whose same bytes are at the destination already."},
		func(r *plan.Rule) *bool { return &r.StoreEach }),
}}

var alsoPart = part[plan.Also]{name: "also", title: "A pick of a rule",
	label: func(r *reader, _ string) string { return "also of " + r.where },
	keys: []key[plan.Also]{
		parsed(Key{Name: "when", Needed: true, Pattern: `^(captioned|rated [1-5]|keyword .+|marked|set .+)$`,
			Examples: []string{"captioned", "rated 4", "keyword regatta", "marked", "set Launch day"}, Label: "what is",
			Says: "Which: captioned, rated 4 (or better), keyword WORD, marked (by you, in the library) or set NAME."}, plan.ParseMark,
			func(a *plan.Also) *plan.Mark { return &a.When }),
		text(Key{Name: "layout", Needed: true, Examples: []string{"picks/{year}/{caption}"}, Label: "also goes to",
			Says: "Where they land beside, such as picks/{year}/{caption}."}, plan.CheckLayout,
			func(a *plan.Also) *string { return &a.Layout }),
	}}

var lanePart = part[plan.Lane]{name: "lane", title: "A lane of a rule", check: checkLane,
	label: func(*reader, string) string { return "a lane" },
	keys: []key[plan.Lane]{
		word(Key{Name: "over", Needed: true, Words: []Word{{string(plan.WiFi), "Wi-Fi or cable"},
			{string(plan.Wired), "cable only"}, {string(plan.Cellular), "cellular"}}, Says: "wifi is the home network, by " +
			"radio or by cable; wired is cable only."}, "a network",
			func(l *plan.Lane) *plan.Network { return &l.Over }),
		kinds(Key{Name: "take", Words: plainWords(media.Kinds...), Empty: "all that the rule takes",
			Says: "Only these kinds go by this lane; all that the rule takes when left out."},
			func(l *plan.Lane) *[]media.Kind { return &l.Take }),
		parsed(Key{Name: "allowance", Pattern: plan.AllowanceForm.String(),
			Examples: []string{"45 MB per day", "2 GB per month", "2 GB per month from day 15"}, Label: "carries at most",
			Says: "Bytes this lane may spend in a period."}, plan.ParseAllowance,
			func(l *plan.Lane) *plan.Allowance { return &l.Allowance }),
		yes(Key{Name: "metered", Label: "also where it is metered",
			Says: "wifi and wired: also when the network is metered. Cellular always counts as metered."},
			func(l *plan.Lane) *bool { return &l.Metered }),
		yes(Key{Name: "roaming", Wants: "modem", Label: "also while roaming", Says: "cellular: also while roaming."},
			func(l *plan.Lane) *bool { return &l.Roaming }),
		parsed(Key{Name: "roaming-allowance", Wants: "modem", Pattern: plan.AllowanceForm.String(),
			Examples: []string{"5 MB per day"}, Label: "while roaming at most", Says: "cellular: while roaming no more " +
				"than this in a period."}, plan.ParseAllowance,
			func(l *plan.Lane) *plan.Allowance { return &l.RoamingAllowance }),
		yes(Key{Name: "metered-wifi", Wants: "modem", Label: "also over a metered Wi-Fi",
			Says: "cellular: also over a Wi-Fi that is metered, which then spends the same allowance."},
			func(l *plan.Lane) *bool { return &l.MeteredWiFi }),
		list(Key{Name: "named", Examples: []string{"Slip", "Loft"}, Label: "only on these networks", Empty: "any",
			Says: "wifi: only on the networks of these names."},
			func(l *plan.Lane) *[]string { return &l.Named }, aNetwork),
		list(Key{Name: "not-named", Examples: []string{"Harbour"}, Label: "not on these networks",
			Says: "wifi: not on the networks of these names."},
			func(l *plan.Lane) *[]string { return &l.NotNamed }, aNetwork),
		yes(Key{Name: "home-only", Label: "at home only", Says: "wifi: only on the home-networks of the plan, or by cable."},
			func(l *plan.Lane) *bool { return &l.HomeOnly }),
		rendered(Key{Name: "send", Label: "carries", Empty: "the whole of each",
			Says: "A rendition: this lane carries small copies, and the whole ones wait for another lane."}, "",
			func(l *plan.Lane) *string { return &l.Send }),
		within(Key{Name: "gates", Says: "Conditions of this lane alone; they replace the rule's of the same name."},
			gatesPart,
			func(l *plan.Lane) *plan.Gates { return &l.Gates }),
	}}

var gatesPart = part[plan.Gates]{name: "gates", title: "Gates of a rule or a lane",
	label: func(*reader, string) string { return "gates" },
	keys: []key[plan.Gates]{
		parsedOrAny(Key{Name: "power", Wants: "battery", Pattern: plan.PowerForm.String(),
			Examples: []string{"charging or at least 40%", "charging", "charging for 30 min", "at least 40%"}, Label: "Power",
			Empty: "any", Says: "What the charger and the battery must be."}, plan.ParsePower,
			func(g *plan.Gates) *plan.Power { return &g.Power }, func(g *plan.Gates) *bool { return &g.NoPower }),
		parsedOrAny(Key{Name: "hours", Pattern: `^[a-z0-9: ,–-]+$`,
			Examples: []string{"22:00-06:00", "22:00-06:00, 12:00-13:30", "mon-fri 22:00-06:00, sat-sun 00:00-24:00"},
			Label:    "Hours", Empty: "any", Says: "The hours of the day in which to send, also over midnight; with days " +
				"of the week, those on which they begin."}, plan.ParseHours,
			func(g *plan.Gates) *plan.Hours { return &g.Hours }, func(g *plan.Gates) *bool { return &g.NoHours }),
		parsedOrAny(Key{Name: "unused-for", Pattern: plan.MinutesForm.String(), Examples: []string{"10 min"},
			Label: "Only when nobody used the device for", Empty: "any", Says: "Only when nobody used the device for so long."},
			plan.ParseMinutes,
			func(g *plan.Gates) *plan.Minutes { return &g.Unused }, func(g *plan.Gates) *bool { return &g.NoUnused }),
		parsedOrAny(Key{Name: "rest", Pattern: plan.MinutesForm.String(), Examples: []string{"30 min"},
			Label: "Only when on charge and unused together for", Empty: "any", Says: "Only when it has been on charge and " +
				"unused together for so long, as phones are at night."}, plan.ParseMinutes,
			func(g *plan.Gates) *plan.Minutes { return &g.Rest }, func(g *plan.Gates) *bool { return &g.NoRest }),
		word(Key{Name: "battery-saver", Wants: "battery", Any: true, Words: plainWords(plan.MustBeOff, plan.OnOrOff),
			Label: "Not while the system saves battery", Says: "off: not while the system saves battery."},
			"what battery-saver can be",
			func(g *plan.Gates) *plan.Switch { return &g.Saver }),
		idle(Key{Name: "idle", Former: "unused-for",
			Says: "true: only while nobody uses the device. false: also while somebody does, whatever the rule says."}),
		word(Key{Name: "screen", Former: "unused-for", Any: true, Words: plainWords(plan.MustBeOff, plan.OnOrOff),
			Says: "off: only while the screen is dark."}, "what screen can be",
			func(g *plan.Gates) *plan.Switch { return &g.Screen }),
	}}

// The keys that are read in a way of their own.

// zone is a key with the name of a time zone.
func zone[T any](k Key, of func(*T) *string) key[T] {
	k.Type = Text
	k.Examples = []string{"Europe/Lisbon"}
	return newKey(k, func(r *reader, n ast.Node, v *T) { *of(v) = r.zone(n) }, func(v *T) any { return orNil(*of(v)) })
}

// day is a key with a day of the calendar.
func day[T any](k Key, of func(*T) *plan.Date) key[T] {
	k.Pattern, k.Examples, k.Empty = plan.DateForm.String(), []string{"2026-11-25"}, "any"
	return text(k, func(s string) error { _, err := plan.ParseDate(s); return err }, of)
}

// kinds is a key with a list of kinds, in the order in which they are shown.
func kinds[T any](k Key, of func(*T) *[]media.Kind) key[T] {
	is := list(k, of, func(r *reader, n ast.Node, word string, _ []media.Kind) {
		if kind := media.Kind(word); kind != media.Everything && !slices.Contains(media.Kinds, kind) {
			r.note(n, "would be photo, raw, graphic, video, audio, document, other or everything", "%q is not a kind of file",
				word)
		}
	})
	return newKey(is.Key, func(r *reader, n ast.Node, v *T) {
		is.read(r, n, v)
		*of(v) = inOrder(*of(v))
	}, is.get)
}

// folder is the key of a source's folder.
func folder(k Key) key[plan.Source] {
	k.Type = Text
	return newKey(k, func(r *reader, n ast.Node, s *plan.Source) {
		s.Folder = r.folder(n)
		r.folders = append(r.folders, link{n, "source", s.Folder})
	}, func(s *plan.Source) any { return orNil(s.Folder) })
}

// layout is the key of a destination's layout: the default one is as none.
func layout(k Key) key[plan.Destination] {
	is := text(k, plan.CheckOwnLayout, func(d *plan.Destination) *string { return &d.Layout })
	return newKey(is.Key, is.read, func(d *plan.Destination) any {
		if d.Layout == plan.DefaultLayout {
			return nil
		}
		return orNil(d.Layout)
	})
}

// rendered is a key with the name of a rendition that says something of a kind, "" for of any.
func rendered[T any](k Key, kind media.Kind, of func(*T) *string) key[T] {
	k.Points = "rendition"
	is := text(k, nil, of)
	return newKey(is.Key, func(r *reader, n ast.Node, v *T) {
		is.read(r, n, v)
		r.forms = append(r.forms, formOf{n, kind, *of(v)})
	}, is.get)
}

// places is the key with a rule's destinations, and the form of each that has one of its own.
func places(k Key) key[plan.Rule] {
	k.Type, k.List = Text, true
	return newKey(k, func(r *reader, n ast.Node, rule *plan.Rule) {
		r.list(n, k.Name, func(n ast.Node) {
			name, form, own := strings.Cut(r.text(n, k.Name), " as ")
			name, form = strings.TrimSpace(name), strings.TrimSpace(form)
			if name == "" {
				return
			}
			if slices.Contains(rule.To, name) {
				r.note(n, "would name each destination once", "destination %q stands here twice", name)
			}
			rule.To = append(rule.To, name)
			r.links = append(r.links, link{n, k.Points, name})
			if !own {
				return
			}
			if rule.As == nil {
				rule.As = map[string]string{}
			}
			if rule.As[name] = form; form == shot {
				rule.As[name] = plan.AsShot
				return
			}
			r.links = append(r.links, link{n, k.As, form})
		})
	}, func(rule *plan.Rule) any { return words(rule.Places()) })
}

// shot follows as where a destination gets the file itself.
const shot = "shot"

// sends is the key that says in which rendition each kind goes.
func sends(k Key) key[plan.Rule] {
	k.Type = Text
	return newKey(k, func(r *reader, n ast.Node, rule *plan.Rule) {
		rule.Send = map[media.Kind]string{}
		seen, ok := r.entries(n, "send", func(key string, at, v ast.Node) {
			if !k.has(key) {
				r.note(at, "would be photo, graphic or video: every other kind goes as shot", "%q is no kind that is reduced", key)
				return
			}
			name := r.text(v, "send")
			rule.Send[media.Kind(key)] = name
			r.links = append(r.links, link{v, k.Points, name})
			r.forms = append(r.forms, formOf{v, media.Kind(key), name})
		})
		if ok && len(seen) == 0 {
			r.note(n, "would be such as {photo: family}", "send of %s says nothing", r.where)
		}
	}, func(rule *plan.Rule) any {
		m := map[string]any{}
		for kind, name := range rule.Send {
			if name != "" {
				m[string(kind)] = name
			}
		}
		if len(m) == 0 {
			return nil
		}
		return m
	})
}

// idle is the former key of a device's use.
func idle(k Key) key[plan.Gates] {
	k.Type = Yes
	return newKey(k, func(r *reader, n ast.Node, g *plan.Gates) {
		if g.Idle = plan.MayBeUsed; r.yesNo(n, k.Name) {
			g.Idle = plan.MustBeIdle
		}
	}, func(g *plan.Gates) any {
		if g.Idle == plan.IdleUnset {
			return nil
		}
		return g.Idle == plan.MustBeIdle
	})
}

// megapixels is a key with a number that need not be whole.
func megapixels(k Key) key[plan.Rendition] {
	k.Type = Number
	return newKey(k, func(r *reader, n ast.Node, v *plan.Rendition) { v.Megapixels = r.megapixels(n) },
		func(v *plan.Rendition) any {
			if v.Megapixels == 0 {
				return nil
			}
			return float64(v.Megapixels)
		})
}

// What words of lists must be.

func aNetwork(r *reader, n ast.Node, name string, before []string) {
	if len(name) > 32 { // IEEE 802.11, 9.4.2.2
		r.note(n, "would be at most 32 bytes long", "%q is no name of a network", name)
	}
	if slices.Contains(before, name) {
		r.note(n, "would name each network once", "%q stands here twice", name)
	}
}

func aPattern(r *reader, n ast.Node, pattern string, _ []string) {
	if err := plan.CheckPattern(pattern); err != nil {
		r.noteError(n, err)
	}
}

// askFolders is the answer that asks about each folder.
const askFolders = "ask"

// newFolders is the key of a device's standing answer.
func newFolders(k Key) key[plan.Device] {
	k.Type = Text
	return newKey(k, func(r *reader, n ast.Node, d *plan.Device) {
		switch s := r.text(n, k.Name); s {
		case "", askFolders:
		case plan.LeaveFolders:
			d.NewFolders = s
		default:
			d.NewFolders = s
			r.links = append(r.links, link{n, "rule", s})
		}
	}, func(d *plan.Device) any { return orNil(d.NewFolders) })
}

// aFolderBelow is a folder below the source, . for the source itself.
func aFolderBelow(r *reader, n ast.Node, folder string, before []string) {
	switch {
	case folder == "" || strings.HasPrefix(folder, "/") || slices.Contains(strings.Split(folder, "/"), ".."):
		r.note(n, "would be a folder below the source, such as Old boats.boatcase, or . for the source itself",
			"%q is no folder below the source", folder)
	case slices.Contains(before, folder):
		r.note(n, "would name each folder once", "the folder %q stands here twice", folder)
	}
}

func aCompanion(r *reader, n ast.Node, word string, before []media.Companion) {
	c := media.Companion(word)
	if !slices.Contains(media.Companions, c) && c != plan.NoCompanion {
		r.note(n, "would be raw, clip, sidecar or none", "%q is no companion", c)
	}
	if len(before) > 0 && (c == plan.NoCompanion || slices.Contains(before, plan.NoCompanion)) {
		r.note(n, "would be [none], or those that go", "none stands beside others")
	}
}

// What several keys of a part must agree on.

func checkPlan(r *reader, _ ast.Node, _ map[string]ast.Node, p *plan.Plan) {
	if p.Format == 1 {
		p.Format = 0 // one meaning, one value
	}
	r.follow(p)
	for _, f := range r.forms {
		if is, there := p.Renditions[f.name]; there && f.kind != "" && !is.Limits(f.kind) {
			r.note(f.node, "would be a rendition with a limit for them (height or fps for clips, long-edge or megapixels "+
				"for pictures)", "%s says nothing of %s", f.name, f.kind.Plural())
		}
	}
	r.persons(p)
	r.apart(p)
	if p.Format == 0 {
		widenPhotos(p)
	}
}

func checkDestination(r *reader, n ast.Node, at map[string]ast.Node, d *plan.Destination) {
	if d.Layout == "" {
		d.Layout = plan.DefaultLayout
	}
	shape, known := shapes[d.Kind]
	if !known {
		return // of which the reader of the key has told
	}
	name := strings.TrimPrefix(r.where, "destination ")
	for _, field := range shape.needs {
		if at[field] == nil {
			r.note(n, fmt.Sprintf("would have %s: …", field), "destination %s is a %s and has no %s", name, d.Kind, field)
		}
	}
	for field, v := range at {
		if !slices.Contains(everywhere, field) && !slices.Contains(shape.needs, field) && !slices.Contains(shape.may, field) {
			r.note(v, "would be left out", "a %s destination has no %s", d.Kind, field)
		}
	}
	switch {
	case d.Kind == plan.Folder && d.Path != "" && !strings.HasPrefix(d.Path, "/"):
		r.note(at["path"], "would begin with /, such as /media/locker", "the path %q is not absolute", d.Path)
	case d.Kind == plan.WebDAV && d.User != "" && d.PasswordFrom == "":
		r.note(at["user"], "would have password-from: kept:NAME, env:NAME or file:/path beside it",
			"destination %s has a user and no password", name)
	case d.Kind == plan.SFTP && d.PasswordFrom == "" && d.KeyFrom == "":
		r.note(n, "would have key-from: file:/path or password-from: env:NAME",
			"destination %s has no password-from and no key-from", name)
	}
}

// everywhere are the keys that every kind of destination has; shapes are those that one kind needs and may
// have beside them.
var (
	everywhere = []string{"kind", "layout", "senders", "keep-free", "size"}
	shapes     = map[plan.DestinationKind]struct{ needs, may []string }{
		plan.Folder: {needs: []string{"path"}},
		plan.WebDAV: {needs: []string{"url"}, may: []string{"user", "password-from", "authority", "certificate"}},
		plan.S3: {needs: []string{"url", "bucket", "user", "password-from"},
			may: []string{"path", "region", "authority", "certificate"}},
		plan.SFTP: {needs: []string{"address", "host-key", "user"}, may: []string{"path", "password-from", "key-from"}},
	}
)

func checkDevice(r *reader, _ ast.Node, at map[string]ast.Node, d *plan.Device) {
	name := strings.TrimPrefix(r.where, "device ")
	for i, s := range d.Sources {
		for _, other := range d.Sources[:i] {
			if s.Folder != "" && (plan.Inside(s.Folder, other.Folder) || plan.Inside(other.Folder, s.Folder)) {
				r.note(behind(entryOf(at["sources"], i), "folder"),
					"would be a folder of its own, outside every other source of this device", "the source %q and the source %q "+
						"of %s lie in one another", s.Folder, other.Folder, name)
			}
		}
	}
	if at["awake-when"] != nil && d.Awake == "" {
		r.note(at["awake-when"], "would stand beside awake: while sending", "%s is not kept awake", name)
	}
}

// checkCard sees that a card has one answer.
func checkCard(r *reader, n ast.Node, at map[string]ast.Node, c *plan.Card) {
	answers := 0
	for _, is := range []bool{c.Leave, len(c.Rules) > 0, c.CopyTo != ""} {
		if is {
			answers++
		}
	}
	switch {
	case answers == 0 && c.Name == "":
		r.note(n, "would have one of leave, rules and copy-to", "a card without an answer")
	case answers > 1:
		r.note(n, "would have one of leave, rules and copy-to", "a card with more than one answer")
	}
	if slices.Contains(strings.Split(c.CopyTo, "/"), "..") {
		r.note(at["copy-to"], "would be written without ..", "the folder %q leaves the device's root", c.CopyTo)
	}
}

func checkSource(r *reader, n ast.Node, at map[string]ast.Node, s *plan.Source) {
	switch {
	case at["rule"] != nil && at["rules"] != nil:
		r.note(at["rule"], "would be one of the two", "%s has rule and rules", r.where)
	case at["rule"] == nil && at["rules"] == nil && len(at) > 0:
		r.note(n, "would have rule: …", "%s has no rule", r.where)
	}
	if s.Largest > 0 && s.Smallest > s.Largest {
		r.note(n, "would have smallest below largest", "%s takes nothing: smallest is above largest", r.where)
	}
	if s.TakenUntil != "" && s.TakenFrom > s.TakenUntil {
		r.note(n, "would have taken-from before taken-until", "%s takes nothing: taken-from is after taken-until", r.where)
	}
}

func checkRendition(r *reader, n ast.Node, at map[string]ast.Node, _ *plan.Rendition) {
	if strings.TrimPrefix(r.where, "rendition ") == strings.ReplaceAll(plan.AsShot, " ", "-") {
		r.note(n, "would have a name of its own", "what goes as shot needs no rendition")
	}
	limits := 0
	for name := range at {
		if name != "codec" && name != "quality" {
			limits++
		}
	}
	if _, isMapping := n.(*ast.MappingNode); limits == 0 && isMapping {
		r.note(n, "would have long-edge: 2560 or megapixels: 3, or height: 720 for clips", "%s has no limit", r.where)
	}
}

func checkRule(r *reader, n ast.Node, at map[string]ast.Node, rule *plan.Rule) {
	name := strings.TrimPrefix(r.where, "rule ")
	checkLanes(r, at["lanes"], rule.Lanes)
	r.quick(*rule, at["lanes"], name)
	for k := range rule.Send {
		if len(rule.Take) > 0 && !slices.Contains(rule.Take, k) {
			r.note(n, "would say it of kinds that the rule takes", "rule %s says in which form %s go, and takes none", name,
				k.Plural())
		}
	}
	for i, a := range rule.Also {
		if slices.ContainsFunc(rule.Also[:i], func(o plan.Also) bool { return o.Layout == a.Layout }) {
			r.note(entryOf(at["also"], i), "would have a layout of its own", "two of them land under %q", a.Layout)
		}
	}
	for i, lane := range rule.Lanes {
		for _, k := range lane.Take {
			if len(rule.Take) > 0 && !slices.Contains(rule.Take, k) {
				r.note(entryOf(at["lanes"], i), "would take what the rule takes, or less",
					"this lane takes %s, which rule %s does not", k, name)
			}
		}
	}
}

// checkLanes sees that lanes over one network share one allowance.
func checkLanes(r *reader, list ast.Node, lanes []plan.Lane) {
	limited := map[plan.Network]bool{}
	for i, lane := range lanes {
		if lane.Allowance.Bytes > 0 && limited[lane.Over] {
			r.note(entryOf(list, i), "would share the first one: leave this one's allowance out",
				"%s has a second allowance over %s", r.where, lane.Over)
		}
		limited[lane.Over] = limited[lane.Over] || lane.Allowance.Bytes > 0
	}
}

func checkLane(r *reader, _ ast.Node, at map[string]ast.Node, l *plan.Lane) {
	misplaced := func(key, would, format string, args ...any) {
		no, isNo := at[key].(*ast.BoolNode) // which says nothing
		if at[key] != nil && !(isNo && !no.Value) {
			r.note(at[key], would, format, args...)
		}
	}
	if !l.Roaming {
		misplaced("roaming-allowance", "would stand beside roaming: true", "the lane does not roam")
	}
	switch l.Over {
	case plan.WiFi, plan.Wired:
		misplaced("metered-wifi", "would stand on a cellular lane; this one has metered: true",
			"metered-wifi has a metered Wi-Fi count as cellular")
		misplaced("roaming", "would stand on a cellular lane", "a lane over %s cannot roam", l.Over)
	case plan.Cellular:
		misplaced("metered", "would be left out", "a cellular lane always counts as metered")
	}
	if l.Over != plan.WiFi && l.Over != "" {
		for _, key := range []string{"named", "not-named", "home-only"} {
			misplaced(key, "would stand on a lane over wifi", "a lane over %s has no networks with names", l.Over)
		}
	}
}

// entryOf is an entry of a list that was read.
func entryOf(list ast.Node, i int) ast.Node {
	if seq, is := list.(*ast.SequenceNode); is && i < len(seq.Values) {
		return seq.Values[i]
	}
	return list
}

// behind is what stands behind a key of a mapping, the mapping itself when nothing does.
func behind(n ast.Node, key string) ast.Node {
	for _, pair := range pairs(n) {
		if pair.Key.GetToken().Value == key {
			return pair.Value
		}
	}
	return n
}
