// Package household lets devices elsewhere join, knows them by their tokens, gives each its part of the plan, and
// lets them go. The routes by which they call are in service/api (home.go); what they tell is kept by engine/link.
package household

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"rsc.io/qr"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/engine/atomicfile"
	"yardtide/engine/destination/web"
	"yardtide/engine/fleet"
	"yardtide/engine/link"
	"yardtide/service/planbook"
	"yardtide/service/vault"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// membership is what is kept of a device that joined.
type membership struct {
	Name      string    `json:"name,omitempty"` // where it is not that of its folder: it was renamed
	Was       string    `json:"was,omitempty"`  // its name before, until the plan has the new one
	Token     string    `json:"token"`          // its SHA-256, in hex
	Recipient string    `json:"recipient"`      // the age key that secrets are sealed to
	Joined    time.Time `json:"joined"`

	folder string // of its mirror, below devices
}

// Options make a household.
type Options struct {
	Dir   string // the data directory
	Log   *slog.Logger
	Book  *planbook.Book
	Fleet *fleet.Fleet
	Vault vault.Vault
	Own   []string               // the devices that run with the service
	Phone func(name string) bool // whether a phone that hands over has a name
	Away  string                 // the yard that this device joined itself; "" where the yard's service is here
	// Tell is called when something changed; Look has a path at a destination looked at, of which a device said
	// something.
	Tell func()
	Look func(destination, path string)
}

// Household knows the devices elsewhere. It is safe for concurrent use.
type Household struct {
	Options
	cert tls.Certificate
	pin  link.Pin
	desk link.Desk
	// Authority signs the certificates for phones; nil before Open.
	Authority *Authority

	joining sync.Mutex // held while a device joins

	mu      sync.Mutex
	members map[string]membership // by device
	mirrors map[string]*link.Mirror
	list    []*link.Mirror           // in the order in which they came
	retired []*link.Mirror           // of devices that were let go
	leaving map[string]chan struct{} // closed when the device is revoked
	codes   map[string]*joinCode     // by device
	wrong   map[string]wrongCodes    // by the address that tried them
	home    wire.HomeNetwork
	moved   chan struct{} // closed when the address changes
}

// New makes a household that knows nobody yet: Open reads who joined.
func New(o Options) *Household {
	return &Household{Options: o, members: map[string]membership{}, mirrors: map[string]*link.Mirror{},
		leaving: map[string]chan struct{}{}, codes: map[string]*joinCode{}, moved: make(chan struct{}),
		wrong: map[string]wrongCodes{}}
}

// Mirrors stand for the devices elsewhere.
func (h *Household) Mirrors() []*link.Mirror {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.list
}

// Close closes what is kept of each device.
func (h *Household) Close() (err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, m := range slices.Concat(h.list, h.retired) {
		err = errors.Join(err, m.Close())
	}
	return err
}

// joinCode is a code that was given out.
type joinCode struct {
	secret []byte
	until  time.Time
	used   string // the hash of the token that used it
}

// codeLife is how long a code lasts that nobody used.
const codeLife = 10 * time.Minute

// wrongCodes are the wrong codes that came from one address.
type wrongCodes struct {
	n     int
	until time.Time // nothing from there is looked at before
}

// After freeTries wrong codes an address waits, twice as long each time, up to mostCodeWait.
// Codes of others are not touched by it.
const (
	freeTries    = 5
	firstWait    = 2 * time.Second
	mostCodeWait = 5 * time.Minute
	mostWrong    = 4096 // addresses that are remembered
)

// TooSoon is the refusal of an address that tries codes.
type TooSoon struct{ Wait time.Duration }

func (e TooSoon) Error() string {
	return fmt.Sprintf("too many wrong codes came from this address; try again in %s", e.Wait.Round(time.Second))
}

// Refused is the refusal of something about a device, with what to do.
type Refused struct{ Says string }

func (e Refused) Error() string { return e.Says }

// Refuse makes a refusal.
func Refuse(format string, args ...any) error { return Refused{fmt.Sprintf(format, args...)} }

func (h *Household) membershipFile(folder string) string {
	return filepath.Join(h.Dir, "devices", folder, "joined.json")
}

func (h *Household) keepMembership(name string, m membership) error {
	if m.Name = name; name == m.folder {
		m.Name = ""
	}
	text, err := json.Marshal(m)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(h.membershipFile(m.folder)), 0o700)
	}
	if err == nil {
		err = atomicfile.Write(h.membershipFile(m.folder), string(text)+"\n")
	}
	if err != nil {
		return fmt.Errorf("keeping that %s joined: %w", name, err)
	}
	return nil
}

// leftFile tells, by its time, that a device was revoked, whose mirror lies in a folder.
func (h *Household) leftFile(folder string) string {
	return filepath.Join(h.Dir, "devices", folder, "left.json")
}

// leftFor is how long what was told of a revoked device is kept.
const leftFor = 30 * 24 * time.Hour

// removeLeft removes what was told of devices that were revoked long ago.
func (h *Household) removeLeft(now time.Time) error {
	left, err := filepath.Glob(h.leftFile("*"))
	if err != nil {
		return fmt.Errorf("listing devices that were revoked: %w", err)
	}
	for _, file := range left {
		_, joined := os.Stat(filepath.Join(filepath.Dir(file), "joined.json"))
		info, err := os.Stat(file)
		switch {
		case err != nil:
			return fmt.Errorf("looking at a device that was revoked: %w", err)
		case joined == nil: // it joined again
			err = os.Remove(file)
		case now.Sub(info.ModTime()) > leftFor:
			err = os.RemoveAll(filepath.Dir(file))
		}
		if err != nil {
			return fmt.Errorf("removing what was told of a device that was revoked: %w", err)
		}
	}
	return nil
}

// folderFor is a folder for a device of a name: that of its name, unless another has it
// that was called so before.
func (h *Household) folderFor(name string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if m, known := h.members[name]; known {
		return m.folder
	}
	folder := name
	for n := 2; ; n++ {
		taken := false
		for _, m := range h.members {
			taken = taken || strings.EqualFold(m.folder, folder)
		}
		if !taken {
			return folder
		}
		folder = fmt.Sprintf("%s-%d", name, n)
	}
}

// Open reads the key, the devices that joined and where to listen.
func (h *Household) Open(ctx context.Context) error {
	h.desk.Look = h.Look
	h.desk.Fleet = h.Fleet
	file := filepath.Join(h.Dir, "home-network.key")
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		der, kerr := link.NewKey()
		if kerr != nil {
			return kerr
		}
		text = []byte(hex.EncodeToString(der))
		err = atomicfile.Write(file, string(text))
	}
	if err != nil {
		return fmt.Errorf("keeping the key for the home network: %w", err)
	}
	der, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil {
		return fmt.Errorf("the key for the home network in %s is damaged; put back the one that was there, or remove "+
			"the file and let the devices join again", file)
	}
	if h.cert, h.pin, err = link.Certificate(der); err != nil {
		return err
	}
	h.home.Fingerprint = h.pin.String()
	if h.Authority, err = OpenAuthority(h.Dir, h.cert); err != nil {
		return err
	}
	address, err := os.ReadFile(h.homeFile())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("reading where to listen: %w", err)
	}
	h.home.Address = strings.TrimSpace(string(address))
	entries, err := os.ReadDir(filepath.Join(h.Dir, "devices"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("listing the devices: %w", err)
	}
	for _, entry := range entries {
		text, err := os.ReadFile(h.membershipFile(entry.Name()))
		if errors.Is(err, fs.ErrNotExist) {
			continue // one of this process
		}
		var m membership
		if err == nil {
			err = json.Unmarshal(text, &m)
		}
		if err != nil {
			return fmt.Errorf("reading that %s joined: %w", entry.Name(), err)
		}
		name := entry.Name()
		m.folder = name
		if m.Name != "" {
			name = m.Name
		}
		if err := h.member(ctx, name, m); err != nil {
			return err
		}
		if m.Was != "" {
			if err := h.Book.Alone(func(put planbook.Put) error { return h.renamedInPlan(ctx, m.Was, name, put) }); err != nil {
				h.Log.Warn("a device that was renamed has its old name in the plan still", "device", name, "err", err)
			}
		}
	}
	return nil
}

func (h *Household) homeFile() string { return filepath.Join(h.Dir, "home-network") }

// member takes a device elsewhere in.
func (h *Household) member(ctx context.Context, name string, m membership) error {
	mirror, err := link.OpenMirror(ctx, link.MirrorOptions{Device: name, Dir: filepath.Join(h.Dir, "devices", m.folder),
		Tell: h.Tell, Log: h.Log})
	if err != nil {
		return err
	}
	h.mu.Lock()
	h.members[name], h.mirrors[name], h.leaving[name] = m, mirror, make(chan struct{})
	h.list = append(slices.Clone(h.list), mirror)
	h.mu.Unlock()
	mirror.SetPlan(h.Book.PlanOrEmpty())
	h.Fleet.Join(fleet.Member{Name: name, Records: mirror.Records, Counts: mirror.Told.Counts, Wake: func() {},
		Tell: h.Tell, Lost: mirror.Orders.Lose, Spoiled: mirror.Spoiled})
	return nil
}

// LocalCode makes a code for a device of this machine, that calls by a socket.
func (h *Household) LocalCode(name, socket string, now time.Time) (link.Code, error) {
	if err := h.mayJoin(name); err != nil {
		return link.Code{}, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.give(name, "unix:"+socket, now), nil
}

// give gives a code out, with which a device of a name joins at an address. The caller has
// the lock.
func (h *Household) give(name, address string, now time.Time) link.Code {
	secret := link.NewSecret()
	h.codes[name] = &joinCode{secret: secret[:], until: now.Add(codeLife)}
	return link.Code{Address: address, Secret: secret, Pin: h.pin, Pinned: true}
}

// mayJoin tells whether a device of a name can join.
func (h *Household) mayJoin(name string) error {
	if h.Away != "" {
		return Refuse("this device joined %s itself; devices are added there", h.Away)
	}
	if !plan.IsName(name) {
		return Refuse("%q cannot be the name of a device; it would be letters, digits, dots and dashes, at most 63", name)
	}
	if slices.ContainsFunc(h.Own, func(own string) bool { return strings.EqualFold(own, name) }) {
		return Refuse("%s runs in this service; give the other device another name", name)
	}
	if h.Phone != nil && h.Phone(name) {
		return Refuse("%s is a phone that hands over here; give the other device another name", name)
	}
	// Two names that differ in capitals are one folder on many disks, and one name to people.
	for known := range h.Book.PlanOrEmpty().Devices {
		if known != name && strings.EqualFold(known, name) {
			return Refuse("the plan has a device %s; names that differ in capital letters alone are one", known)
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for known := range h.members {
		if known != name && strings.EqualFold(known, name) {
			return Refuse("there is a device %s already; names that differ in capital letters alone are one", known)
		}
	}
	return nil
}

// NewCode makes the code with which a device of a name joins, or joins again.
func (h *Household) NewCode(name string, now time.Time) (wire.JoinCode, error) {
	if err := h.mayJoin(name); err != nil {
		return wire.JoinCode{}, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if !h.home.Listening {
		return wire.JoinCode{}, Refuse("the service does not listen on the home network, so that no device can reach " +
			"it; switch that on first (the page Devices, or yardtide device network ADDRESS)")
	}
	c := h.give(name, Reachable(h.home.Address), now)
	picture, err := QR(c.String())
	if err != nil {
		return wire.JoinCode{}, err
	}
	return wire.JoinCode{Device: name, Code: c.String(), ByHand: c.ByHand(), Fingerprint: h.pin.String(),
		Until: now.Add(codeLife), QR: picture}, nil
}

// quiet is how many light modules are around a QR picture (ISO/IEC 18004).
const quiet = 4

// QR is a text as a QR picture, a row a text: # is dark.
func QR(text string) ([]string, error) {
	picture, err := qr.Encode(text, qr.M)
	if err != nil {
		return nil, fmt.Errorf("drawing the code: %w", err)
	}
	return modules(picture), nil
}

func modules(picture *qr.Code) []string {
	rows := make([]string, 0, picture.Size+2*quiet)
	for y := -quiet; y < picture.Size+quiet; y++ {
		row := make([]byte, 0, picture.Size+2*quiet)
		for x := -quiet; x < picture.Size+quiet; x++ {
			if picture.Black(x, y) {
				row = append(row, '#')
			} else {
				row = append(row, '.')
			}
		}
		rows = append(rows, string(row))
	}
	return rows
}

// Reachable is an address that another machine can use: where the service listens on all
// of this computer's, it is one of them.
func Reachable(address string) string {
	host, port, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err != nil || host != "" && (ip == nil || !ip.IsUnspecified()) {
		return address
	}
	if own := ownAddress(); own != "" {
		return net.JoinHostPort(own, port)
	}
	return address
}

// ownAddress is an address of this computer on a network, "" when there is none.
func ownAddress() string {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return ""
	}
	for _, a := range all {
		if n, is := a.(*net.IPNet); is && n.IP.To4() != nil && n.IP.IsPrivate() {
			return n.IP.String()
		}
	}
	return ""
}

// ErrNoJoin is the refusal of a device that wants to join, whatever the reason: a
// stranger learns nothing from it.
var ErrNoJoin = errors.New("the code is wrong, was used already, or is older than ten minutes; make a new one " +
	"where the service runs")

// Join lets a device in that shows the secret of a code, from an address. It may ask again with
// the same token, as the answer may have been lost. A code is used up once the membership is on
// disk. The error is ErrNoJoin for a stranger, whatever the reason, and TooSoon for one who
// tries codes.
func (h *Household) Join(ctx context.Context, j link.Join, address string, now time.Time) (link.Joined, error) {
	h.joining.Lock() // one at a time: a code lets one device in
	defer h.joining.Unlock()
	hash := tokenHash(j.Token)
	name, code, err := h.find(j.Secret, hash, address, now)
	if err != nil {
		return link.Joined{}, err
	}
	answer := link.Joined{Time: time.Now(), Device: name, Yard: h.Book.PlanOrEmpty().Yard}
	h.mu.Lock()
	again := code.used != "" && h.members[name].Token == hash
	inUse := !again && slices.ContainsFunc(slices.Collect(maps.Values(h.members)),
		func(m membership) bool { return m.Token == hash })
	h.mu.Unlock()
	if again {
		return answer, nil
	}
	if _, err := age.ParseX25519Recipient(j.Recipient); err != nil || len(j.Token) < 16 ||
		inUse { // one device has one name
		return link.Joined{}, ErrNoJoin
	}
	m := membership{Token: hash, Recipient: j.Recipient, Joined: now.UTC(), folder: h.folderFor(name)}
	if err := h.keepMembership(name, m); err != nil {
		return link.Joined{}, err
	}
	h.mu.Lock()
	code.used = hash
	_, known := h.mirrors[name]
	if known { // it joined again: whoever had its name before is out
		close(h.leaving[name])
		h.members[name], h.leaving[name] = m, make(chan struct{})
	}
	h.mu.Unlock()
	if !known {
		if err := h.member(ctx, name, m); err != nil {
			return link.Joined{}, err
		}
	}
	h.Log.Info("a device joined", "device", name)
	h.Tell()
	return answer, nil
}

func tokenHash(token []byte) string {
	sum := sha256.Sum256(token)
	return hex.EncodeToString(sum[:])
}

// find finds the code with a secret, that is unused or was used with the same token. A wrong
// secret slows down the address that it came from, and ends nobody's code.
func (h *Household) find(secret []byte, token, address string,
	now time.Time) (device string, code *joinCode, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for name, c := range h.codes {
		if now.After(c.until) {
			delete(h.codes, name)
		}
	}
	if w := h.wrong[address]; now.Before(w.until) {
		return "", nil, TooSoon{w.until.Sub(now)}
	}
	for name, c := range h.codes {
		if hmac.Equal(c.secret, secret) && (c.used == "" || c.used == token) {
			delete(h.wrong, address)
			return name, c, nil
		}
	}
	for known, w := range h.wrong {
		if now.Sub(w.until) > mostCodeWait || len(h.wrong) >= mostWrong {
			delete(h.wrong, known)
		}
	}
	w := h.wrong[address]
	if w.n++; w.n > freeTries {
		w.until = now.Add(min(mostCodeWait, firstWait<<min(w.n-freeTries-1, 16)))
	} else {
		w.until = now
	}
	h.wrong[address] = w
	return "", nil, ErrNoJoin
}

// Caller finds the device that shows a token, and what is closed when it is revoked.
func (h *Household) Caller(token []byte) (m *link.Mirror, revoked <-chan struct{}, ok bool) {
	hash := tokenHash(token)
	h.mu.Lock()
	defer h.mu.Unlock()
	for name, one := range h.members {
		if hmac.Equal([]byte(one.Token), []byte(hash)) {
			return h.mirrors[name], h.leaving[name], true
		}
	}
	return nil, nil, false
}

// Revoke lets a device go: it is known no more, and its streams end.
func (h *Household) Revoke(name string) (wire.Revoked, error) {
	h.mu.Lock()
	mirror, known := h.mirrors[name]
	if !known {
		h.mu.Unlock()
		return wire.Revoked{}, ErrNoDevice
	}
	folder := h.members[name].folder
	close(h.leaving[name])
	delete(h.members, name)
	delete(h.mirrors, name)
	delete(h.leaving, name)
	delete(h.codes, name)
	h.list = slices.DeleteFunc(slices.Clone(h.list), func(m *link.Mirror) bool { return m == mirror })
	h.retired = append(h.retired, mirror)
	h.mu.Unlock()
	h.Fleet.Leave(name)
	h.desk.Sweep(time.Now(), name)
	if err := os.Rename(h.membershipFile(folder), h.leftFile(folder)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return wire.Revoked{}, fmt.Errorf("forgetting %s: %w", name, err)
	}
	r := wire.Revoked{Device: name, Secrets: []string{}}
	if part := h.Book.PlanOrEmpty().PartOf(name); part != nil {
		for dest, d := range part.Destinations {
			if len(vault.SecretsOf(d)) > 0 {
				r.Secrets = append(r.Secrets, dest)
			}
		}
		slices.Sort(r.Secrets)
	}
	r.Says = name + " is known no more, and is answered no more. What it sent stays; what was only on it is not told " +
		"of any longer."
	if len(r.Secrets) > 0 {
		r.Says += " It held the secrets of " + words.And(r.Secrets) +
			": if it may be in other hands, change them there, and give the new ones here (yardtide destination secret)."
	}
	h.Log.Info("a device was revoked", "device", name)
	h.Tell()
	return r, nil
}

// Rename calls a device elsewhere otherwise: here, in the plan, and, as soon as it is
// heard of, there. One that failed half way is taken up by the same call.
func (h *Household) Rename(ctx context.Context, name, to string) (out planwire.PlanEdited, err error) {
	err = h.Book.Alone(func(put planbook.Put) error {
		out, err = h.rename(ctx, name, to, put)
		return err
	})
	return out, err
}

func (h *Household) rename(ctx context.Context, name, to string, put planbook.Put) (planwire.PlanEdited, error) {
	h.mu.Lock()
	m, known := h.members[name]
	if half, there := h.members[to]; !known && there && half.Was == name {
		m, known, name = half, true, to
	}
	mirror := h.mirrors[name]
	_, taken := h.members[to]
	h.mu.Unlock()
	if name != to {
		if slices.Contains(h.Own, name) {
			return planwire.PlanEdited{}, Refuse("%s runs with the service, and has the name with which that is started "+
				"(serve -device); only a device elsewhere is renamed", name)
		}
		if !known {
			return planwire.PlanEdited{}, ErrNoDevice
		}
		if err := h.mayJoin(to); err != nil {
			return planwire.PlanEdited{}, err
		}
		_, planned := h.Book.PlanOrEmpty().Devices[to]
		if taken || planned {
			return planwire.PlanEdited{}, Refuse("there is a device %s already", to)
		}
		m.Was = name
		if err := h.keepMembership(to, m); err != nil {
			return planwire.PlanEdited{}, err
		}
		h.mu.Lock()
		h.members[to], h.mirrors[to], h.leaving[to] = m, mirror, h.leaving[name]
		for _, old := range []string{name, to} { // a code lets nobody in its stead
			delete(h.codes, old)
		}
		delete(h.members, name)
		delete(h.mirrors, name)
		delete(h.leaving, name)
		mirror.Rename(to)
		h.mu.Unlock()
		h.Fleet.Rename(name, to)
		h.desk.Rename(name, to)
		h.Log.Info("a device was renamed", "device", name, "to", to)
	}
	if !known {
		return planwire.PlanEdited{}, ErrNoDevice
	}
	before, version := h.Book.Text()
	err := h.renamedInPlan(ctx, m.Was, to, put)
	after, now := h.Book.Text()
	out := planwire.PlanEdited{Version: now, Says: []string{}, Notes: []string{}}
	if now != version {
		out.Says = planbook.Changes(before, after)
	}
	h.Tell()
	return out, err
}

// renamedInPlan has the plan call a device otherwise, too; that ends its renaming.
func (h *Household) renamedInPlan(ctx context.Context, was, name string, put planbook.Put) error {
	p := h.Book.PlanOrEmpty()
	_, old := p.Devices[was]
	if _, named := p.Devices[name]; old && !named {
		before, _ := h.Book.Text()
		after, err := plantext.WithRenamedDevice(before, was, name)
		if err != nil {
			return err
		}
		if _, err := put(ctx, "plan.yaml", after, planwire.PlanByForm); err != nil {
			return err
		}
	}
	h.mu.Lock()
	m := h.members[name]
	m.Was = ""
	h.mu.Unlock()
	if err := h.keepMembership(name, m); err != nil {
		return err
	}
	h.mu.Lock()
	h.members[name] = m
	mirror := h.mirrors[name]
	h.mu.Unlock()
	mirror.SetPlan(h.Book.PlanOrEmpty())
	return nil
}

// AuthorityKind is the kind of what is given beside secrets: the certificates of a household's
// own authority, which are none.
const AuthorityKind = "authority"

// ErrNoDevice tells that no device elsewhere has a name.
var ErrNoDevice = errors.New("no device elsewhere has this name")

// PartFor is a device's part of the plan in force, with the secrets of its places sealed
// to its key, unless it has that one already, by its mark.
func (h *Household) PartFor(name, has string) (link.Plan, error) {
	h.mu.Lock()
	m, known := h.members[name]
	h.mu.Unlock()
	if !known {
		return link.Plan{}, ErrNoDevice
	}
	if m.Was != "" { // the plan does not have its new name yet
		return link.Plan{Mark: has}, nil
	}
	whole := h.Book.PlanOrEmpty()
	part := whole.PartOf(name)
	if part == nil {
		return link.Plan{Mark: "none"}, nil
	}
	p := link.Plan{Device: name, Text: plantext.Write(part)}
	var secrets []link.Secret
	for to := range part.Destinations {
		d := whole.Destinations[to]
		for kind, from := range vault.SecretsOf(d) {
			secret, err := h.Vault.Read(kind, from, d.Server())
			if err != nil { // the device says that it has none
				h.Log.Warn("a secret cannot be given to a device", "device", name, "destination", to, "err", err)
				continue
			}
			secrets = append(secrets, link.Secret{Kind: string(kind), Name: to, Server: d.Server(), Secret: secret})
		}
	}
	for to, d := range part.Destinations {
		if d.Authority == "" {
			continue
		}
		pem, err := web.ReadAuthority(d.Authority)
		if err != nil { // the device says that it has none
			h.Log.Warn("an authority's certificate cannot be given to a device", "device", name, "destination", to, "err", err)
			continue
		}
		secrets = append(secrets, link.Secret{Kind: AuthorityKind, Name: to, Server: d.Server(), Secret: string(pem)})
	}
	slices.SortFunc(secrets, func(a, b link.Secret) int { return strings.Compare(a.Name+a.Kind, b.Name+b.Kind) })
	text, err := json.Marshal(secrets)
	if err != nil {
		return p, fmt.Errorf("sealing the secrets for %s: %w", name, err)
	}
	mark := hmac.New(sha256.New, []byte(m.Token)) // a mark tells nothing of the secrets
	mark.Write([]byte(p.Text + "\x00"))
	mark.Write(text)
	if p.Mark = hex.EncodeToString(mark.Sum(nil)[:12]); p.Mark == has {
		return p, nil
	}
	if p.Secrets, err = vault.Seal(text, m.Recipient); err != nil {
		return p, fmt.Errorf("sealing the secrets for %s: %w", name, err)
	}
	return p, nil
}

// Desk answers what devices elsewhere ask of the others.
func (h *Household) Desk() *link.Desk { return &h.desk }

// PartKeepsFree tells how much is kept free at a destination, and whether it is of a device's
// part of the plan.
func (h *Household) PartKeepsFree(device, name string) (int64, bool) {
	p := h.Book.PlanOrEmpty()
	d, there := p.Destinations[name]
	h.mu.Lock()
	was := h.members[device].Was // while the plan does not have its new name yet
	h.mu.Unlock()
	return int64(d.KeepFree), there && (p.SendsTo(device, name) || was != "" && p.SendsTo(was, name))
}

// HomeNetwork tells where the service listens for devices elsewhere.
func (h *Household) HomeNetwork() wire.HomeNetwork {
	h.mu.Lock()
	defer h.mu.Unlock()
	n := h.home
	if own := ownAddress(); own != "" {
		n.Proposed = net.JoinHostPort(own, "7443")
	}
	return n
}

// CheckAddress tells what is wrong with an address to listen at; "" is nowhere, and right.
func CheckAddress(address string) error {
	if address == "" {
		return nil
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil || port == "" {
		return Refuse("%q is not an address such as 192.168.1.20:7443", address)
	}
	if ip := net.ParseIP(host); ip == nil {
		return Refuse("%q is not an address of this computer; it would be such as 192.168.1.20:7443", address)
	}
	return nil
}

// SetHomeNetwork says where to listen for devices elsewhere; "" is nowhere. It is kept.
func (h *Household) SetHomeNetwork(address string) error {
	if h.Away != "" {
		return Refuse("this device joined %s itself; devices join there", h.Away)
	}
	if err := CheckAddress(address); err != nil {
		return err
	}
	if err := atomicfile.Write(h.homeFile(), address+"\n"); err != nil {
		return fmt.Errorf("keeping where to listen: %w", err)
	}
	h.mu.Lock()
	if h.home.Address != address {
		h.home.Address, h.home.Problem = address, ""
		close(h.moved)
		h.moved = make(chan struct{})
	}
	h.mu.Unlock()
	h.Tell()
	return nil
}

// HomeAddress is where to listen, and what is closed when that changes.
func (h *Household) HomeAddress() (address string, moved <-chan struct{}) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.home.Address, h.moved
}

// Listens notes whether the service listens on the home network; problem is why not. On
// a port of the system's choice, address tells which it is.
func (h *Household) Listens(listening bool, address, problem string) {
	h.mu.Lock()
	h.home.Listening, h.home.Problem = listening, problem
	if listening {
		h.home.Address = address
	}
	h.mu.Unlock()
	h.Tell()
}

// Run ends what devices claimed and need no more, until the context ends.
func (h *Household) Run(ctx context.Context) {
	tick := time.NewTicker(10 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			h.desk.Sweep(now, "")
			if err := h.removeLeft(now); err != nil {
				h.Log.Warn("what was told of devices that were revoked stays", "err", err)
			}
			h.Tell() // who was heard of last when
		}
	}
}
