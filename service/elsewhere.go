package service

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"crypto/tls"

	"filippo.io/age"
	"rsc.io/qr"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/engine/atomicfile"
	"yardtide/engine/destination/web"
	"yardtide/engine/fleet"
	"yardtide/engine/link"
	"yardtide/service/planbook"
	"yardtide/service/vault"
	"yardtide/wire"
)

// This file lets devices elsewhere join, knows them by their tokens, and lets them go.
// The routes by which they call are in service/api (home.go).

// membership is what is kept of a device that joined.
type membership struct {
	Name      string    `json:"name,omitempty"` // where it is not that of its folder: it was renamed
	Was       string    `json:"was,omitempty"`  // its name before, until the plan has the new one
	Token     string    `json:"token"`          // its SHA-256, in hex
	Recipient string    `json:"recipient"`      // the age key that secrets are sealed to
	Joined    time.Time `json:"joined"`

	folder string // of its mirror, below devices
}

// elsewhere is all that the service knows of devices elsewhere.
type elsewhere struct {
	cert tls.Certificate
	pin  link.Pin
	desk link.Desk

	joining sync.Mutex // held while a device joins

	mu      sync.Mutex
	members map[string]membership // by device
	mirrors map[string]*link.Mirror
	leaving map[string]chan struct{} // closed when the device is revoked
	codes   map[string]*joinCode     // by device
	wrong   map[string]wrongCodes    // by the address that tried them
	home    wire.HomeNetwork
	moved   chan struct{} // closed when the address changes
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

func refused(format string, args ...any) error { return Refused{fmt.Sprintf(format, args...)} }

func (s *Service) membershipFile(folder string) string {
	return filepath.Join(s.Dir, "devices", folder, "joined.json")
}

func (s *Service) keepMembership(name string, m membership) error {
	if m.Name = name; name == m.folder {
		m.Name = ""
	}
	text, err := json.Marshal(m)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(s.membershipFile(m.folder)), 0o700)
	}
	if err == nil {
		err = atomicfile.Write(s.membershipFile(m.folder), string(text)+"\n")
	}
	if err != nil {
		return fmt.Errorf("keeping that %s joined: %w", name, err)
	}
	return nil
}

// leftFile tells, by its time, that a device was revoked, whose mirror lies in a folder.
func (s *Service) leftFile(folder string) string {
	return filepath.Join(s.Dir, "devices", folder, "left.json")
}

// leftFor is how long what was told of a revoked device is kept.
const leftFor = 30 * 24 * time.Hour

// removeLeft removes what was told of devices that were revoked long ago.
func (s *Service) removeLeft(now time.Time) error {
	left, err := filepath.Glob(s.leftFile("*"))
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
func (e *elsewhere) folderFor(name string) string {
	e.mu.Lock()
	defer e.mu.Unlock()
	if m, known := e.members[name]; known {
		return m.folder
	}
	folder := name
	for n := 2; ; n++ {
		taken := false
		for _, m := range e.members {
			taken = taken || strings.EqualFold(m.folder, folder)
		}
		if !taken {
			return folder
		}
		folder = fmt.Sprintf("%s-%d", name, n)
	}
}

// openElsewhere reads the key, the devices that joined and where to listen.
func (s *Service) openElsewhere(ctx context.Context) error {
	e := &s.elsewhere
	e.members, e.mirrors, e.leaving, e.codes, e.moved = map[string]membership{}, map[string]*link.Mirror{}, map[string]chan struct{}{}, map[string]*joinCode{}, make(chan struct{})
	e.wrong = map[string]wrongCodes{}
	e.desk.Look = s.looks.ask
	e.desk.Fleet = s.fleet
	file := filepath.Join(s.Dir, "home-network.key")
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
		return fmt.Errorf("the key for the home network in %s is damaged; put back the one that was there, or remove the file and let the devices join again", file)
	}
	if e.cert, e.pin, err = link.Certificate(der); err != nil {
		return err
	}
	e.home.Fingerprint = e.pin.String()
	address, err := os.ReadFile(s.homeFile())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("reading where to listen: %w", err)
	}
	e.home.Address = strings.TrimSpace(string(address))
	entries, err := os.ReadDir(filepath.Join(s.Dir, "devices"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("listing the devices: %w", err)
	}
	for _, entry := range entries {
		text, err := os.ReadFile(s.membershipFile(entry.Name()))
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
		if err := s.member(ctx, name, m); err != nil {
			return err
		}
		if m.Was != "" {
			if err := s.Book.Alone(func(put planbook.Put) error { return s.renamedInPlan(ctx, m.Was, name, put) }); err != nil {
				s.Log.Warn("a device that was renamed has its old name in the plan still", "device", name, "err", err)
			}
		}
	}
	return nil
}

func (s *Service) homeFile() string { return filepath.Join(s.Dir, "home-network") }

// member takes a device elsewhere in.
func (s *Service) member(ctx context.Context, name string, m membership) error {
	mirror, err := link.OpenMirror(ctx, link.MirrorOptions{Device: name, Dir: filepath.Join(s.Dir, "devices", m.folder), Tell: s.Changes.Tell, Log: s.Log})
	if err != nil {
		return err
	}
	e := &s.elsewhere
	e.mu.Lock()
	e.members[name], e.mirrors[name], e.leaving[name] = m, mirror, make(chan struct{})
	e.mu.Unlock()
	mirror.SetPlan(s.Book.PlanOrEmpty())
	s.mu.Lock()
	s.devices = append(slices.Clone(s.devices), mirror)
	s.mu.Unlock()
	s.fleet.Join(fleet.Member{Name: name, Records: mirror.Records, Counts: mirror.Counts, Wake: func() {}, Tell: s.Changes.Tell, Lost: mirror.Lose, Spoiled: mirror.Spoiled})
	return nil
}

// LocalCode makes a code for a device of this machine, that calls by a socket.
func (s *Service) LocalCode(name, socket string, now time.Time) (link.Code, error) {
	if err := s.mayJoin(name); err != nil {
		return link.Code{}, err
	}
	e := &s.elsewhere
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.give(name, "unix:"+socket, now), nil
}

// give gives a code out, with which a device of a name joins at an address. The caller has
// the lock.
func (e *elsewhere) give(name, address string, now time.Time) link.Code {
	secret := link.NewSecret()
	e.codes[name] = &joinCode{secret: secret[:], until: now.Add(codeLife)}
	return link.Code{Address: address, Secret: secret, Pin: e.pin, Pinned: true}
}

// mayJoin tells whether a device of a name can join.
func (s *Service) mayJoin(name string) error {
	if s.Joined != nil {
		return refused("this device joined %s itself; devices are added there", s.Joined.Home.Yard)
	}
	if !plan.IsName(name) {
		return refused("%q cannot be the name of a device; it would be letters, digits, dots and dashes, at most 63", name)
	}
	if slices.ContainsFunc(s.Members, func(m Member) bool { return strings.EqualFold(m.Name, name) }) {
		return refused("%s runs in this service; give the other device another name", name)
	}
	// Two names that differ in capitals are one folder on many disks, and one name to people.
	for known := range s.Book.PlanOrEmpty().Devices {
		if known != name && strings.EqualFold(known, name) {
			return refused("the plan has a device %s; names that differ in capital letters alone are one", known)
		}
	}
	e := &s.elsewhere
	e.mu.Lock()
	defer e.mu.Unlock()
	for known := range e.members {
		if known != name && strings.EqualFold(known, name) {
			return refused("there is a device %s already; names that differ in capital letters alone are one", known)
		}
	}
	return nil
}

// NewCode makes the code with which a device of a name joins, or joins again.
func (s *Service) NewCode(name string, now time.Time) (wire.JoinCode, error) {
	if err := s.mayJoin(name); err != nil {
		return wire.JoinCode{}, err
	}
	e := &s.elsewhere
	e.mu.Lock()
	defer e.mu.Unlock()
	if !e.home.Listening {
		return wire.JoinCode{}, refused("the service does not listen on the home network, so that no device can reach it; switch that on first (the page Devices, or yardtide device network ADDRESS)")
	}
	c := e.give(name, reachable(e.home.Address), now)
	picture, err := qr.Encode(c.String(), qr.M)
	if err != nil {
		return wire.JoinCode{}, fmt.Errorf("drawing the code: %w", err)
	}
	return wire.JoinCode{Device: name, Code: c.String(), ByHand: c.ByHand(), Fingerprint: e.pin.String(), Until: now.Add(codeLife), QR: modules(picture)}, nil
}

// quiet is how many light modules are around a QR picture (ISO/IEC 18004).
const quiet = 4

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

// reachable is an address that another machine can use: where the service listens on all
// of this computer's, it is one of them.
func reachable(address string) string {
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
var ErrNoJoin = errors.New("the code is wrong, was used already, or is older than ten minutes; make a new one where the service runs")

// Join lets a device in that shows the secret of a code, from an address. It may ask again with
// the same token, as the answer may have been lost. A code is used up once the membership is on
// disk. The error is ErrNoJoin for a stranger, whatever the reason, and TooSoon for one who
// tries codes.
func (s *Service) Join(ctx context.Context, j link.Join, address string, now time.Time) (link.Joined, error) {
	e := &s.elsewhere
	e.joining.Lock() // one at a time: a code lets one device in
	defer e.joining.Unlock()
	hash := tokenHash(j.Token)
	name, code, err := e.find(j.Secret, hash, address, now)
	if err != nil {
		return link.Joined{}, err
	}
	answer := link.Joined{Time: time.Now(), Device: name, Yard: s.Book.PlanOrEmpty().Yard}
	e.mu.Lock()
	again := code.used != "" && e.members[name].Token == hash
	inUse := !again && slices.ContainsFunc(slices.Collect(maps.Values(e.members)), func(m membership) bool { return m.Token == hash })
	e.mu.Unlock()
	if again {
		return answer, nil
	}
	if _, err := age.ParseX25519Recipient(j.Recipient); err != nil || len(j.Token) < 16 || inUse { // one device has one name
		return link.Joined{}, ErrNoJoin
	}
	m := membership{Token: hash, Recipient: j.Recipient, Joined: now.UTC(), folder: e.folderFor(name)}
	if err := s.keepMembership(name, m); err != nil {
		return link.Joined{}, err
	}
	e.mu.Lock()
	code.used = hash
	_, known := e.mirrors[name]
	if known { // it joined again: whoever had its name before is out
		close(e.leaving[name])
		e.members[name], e.leaving[name] = m, make(chan struct{})
	}
	e.mu.Unlock()
	if !known {
		if err := s.member(ctx, name, m); err != nil {
			return link.Joined{}, err
		}
	}
	s.Log.Info("a device joined", "device", name)
	s.Changes.Tell()
	return answer, nil
}

func tokenHash(token []byte) string {
	sum := sha256.Sum256(token)
	return hex.EncodeToString(sum[:])
}

// find finds the code with a secret, that is unused or was used with the same token. A wrong
// secret slows down the address that it came from, and ends nobody's code.
func (e *elsewhere) find(secret []byte, token, address string, now time.Time) (device string, code *joinCode, err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, c := range e.codes {
		if now.After(c.until) {
			delete(e.codes, name)
		}
	}
	if w := e.wrong[address]; now.Before(w.until) {
		return "", nil, TooSoon{w.until.Sub(now)}
	}
	for name, c := range e.codes {
		if hmac.Equal(c.secret, secret) && (c.used == "" || c.used == token) {
			delete(e.wrong, address)
			return name, c, nil
		}
	}
	for known, w := range e.wrong {
		if now.Sub(w.until) > mostCodeWait || len(e.wrong) >= mostWrong {
			delete(e.wrong, known)
		}
	}
	w := e.wrong[address]
	if w.n++; w.n > freeTries {
		w.until = now.Add(min(mostCodeWait, firstWait<<min(w.n-freeTries-1, 16)))
	} else {
		w.until = now
	}
	e.wrong[address] = w
	return "", nil, ErrNoJoin
}

// Caller finds the device that shows a token, and what is closed when it is revoked.
func (s *Service) Caller(token []byte) (m *link.Mirror, revoked <-chan struct{}, ok bool) {
	hash := tokenHash(token)
	e := &s.elsewhere
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, one := range e.members {
		if hmac.Equal([]byte(one.Token), []byte(hash)) {
			return e.mirrors[name], e.leaving[name], true
		}
	}
	return nil, nil, false
}

// Revoke lets a device go: it is known no more, and its streams end.
func (s *Service) Revoke(name string) (wire.Revoked, error) {
	e := &s.elsewhere
	e.mu.Lock()
	mirror, known := e.mirrors[name]
	if !known {
		e.mu.Unlock()
		return wire.Revoked{}, ErrNoDevice
	}
	folder := e.members[name].folder
	close(e.leaving[name])
	delete(e.members, name)
	delete(e.mirrors, name)
	delete(e.leaving, name)
	delete(e.codes, name)
	e.mu.Unlock()
	s.mu.Lock()
	s.devices = slices.DeleteFunc(slices.Clone(s.devices), func(d Device) bool { return d == Device(mirror) })
	s.retired = append(s.retired, mirror)
	s.mu.Unlock()
	s.fleet.Leave(name)
	e.desk.Sweep(time.Now(), name)
	if err := os.Rename(s.membershipFile(folder), s.leftFile(folder)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return wire.Revoked{}, fmt.Errorf("forgetting %s: %w", name, err)
	}
	r := wire.Revoked{Device: name, Secrets: []string{}}
	if part := s.Book.PlanOrEmpty().PartOf(name); part != nil {
		for dest, d := range part.Destinations {
			if len(vault.SecretsOf(d)) > 0 {
				r.Secrets = append(r.Secrets, dest)
			}
		}
		slices.Sort(r.Secrets)
	}
	r.Says = name + " is known no more, and is answered no more. What it sent stays; what was only on it is not told of any longer."
	if len(r.Secrets) > 0 {
		r.Says += " It held the secrets of " + gate.And(r.Secrets) + ": if it may be in other hands, change them there, and give the new ones here (yardtide destination secret)."
	}
	s.Log.Info("a device was revoked", "device", name)
	s.Changes.Tell()
	return r, nil
}

// Rename calls a device elsewhere otherwise: here, in the plan, and, as soon as it is
// heard of, there. One that failed half way is taken up by the same call.
func (s *Service) Rename(ctx context.Context, name, to string) (out wire.PlanEdited, err error) {
	return out, s.Book.Alone(func(put planbook.Put) error {
		out, err = s.rename(ctx, name, to, put)
		return err
	})
}

func (s *Service) rename(ctx context.Context, name, to string, put planbook.Put) (wire.PlanEdited, error) {
	e := &s.elsewhere
	e.mu.Lock()
	m, known := e.members[name]
	if half, there := e.members[to]; !known && there && half.Was == name {
		m, known, name = half, true, to
	}
	mirror := e.mirrors[name]
	_, taken := e.members[to]
	e.mu.Unlock()
	if name != to {
		if slices.ContainsFunc(s.Members, func(m Member) bool { return m.Name == name }) {
			return wire.PlanEdited{}, refused("%s runs with the service, and has the name with which that is started (serve -device); only a device elsewhere is renamed", name)
		}
		if !known {
			return wire.PlanEdited{}, ErrNoDevice
		}
		if err := s.mayJoin(to); err != nil {
			return wire.PlanEdited{}, err
		}
		_, planned := s.Book.PlanOrEmpty().Devices[to]
		if taken || planned {
			return wire.PlanEdited{}, refused("there is a device %s already", to)
		}
		m.Was = name
		if err := s.keepMembership(to, m); err != nil {
			return wire.PlanEdited{}, err
		}
		e.mu.Lock()
		e.members[to], e.mirrors[to], e.leaving[to] = m, mirror, e.leaving[name]
		for _, old := range []string{name, to} { // a code lets nobody in its stead
			delete(e.codes, old)
		}
		delete(e.members, name)
		delete(e.mirrors, name)
		delete(e.leaving, name)
		mirror.Rename(to)
		e.mu.Unlock()
		s.fleet.Rename(name, to)
		e.desk.Rename(name, to)
		s.Log.Info("a device was renamed", "device", name, "to", to)
	}
	if !known {
		return wire.PlanEdited{}, ErrNoDevice
	}
	before, version := s.Book.Text()
	err := s.renamedInPlan(ctx, m.Was, to, put)
	after, now := s.Book.Text()
	out := wire.PlanEdited{Version: now, Says: []string{}, Notes: []string{}}
	if now != version {
		out.Says = planbook.Changes(before, after)
	}
	s.Changes.Tell()
	return out, err
}

// renamedInPlan has the plan call a device otherwise, too; that ends its renaming.
func (s *Service) renamedInPlan(ctx context.Context, was, name string, put planbook.Put) error {
	p := s.Book.PlanOrEmpty()
	_, old := p.Devices[was]
	if _, named := p.Devices[name]; old && !named {
		before, _ := s.Book.Text()
		after, err := plantext.WithRenamedDevice(before, was, name)
		if err != nil {
			return err
		}
		if _, err := put(ctx, "plan.yaml", after, wire.PlanByForm); err != nil {
			return err
		}
	}
	e := &s.elsewhere
	e.mu.Lock()
	m := e.members[name]
	m.Was = ""
	e.mu.Unlock()
	if err := s.keepMembership(name, m); err != nil {
		return err
	}
	e.mu.Lock()
	e.members[name] = m
	mirror := e.mirrors[name]
	e.mu.Unlock()
	mirror.SetPlan(s.Book.PlanOrEmpty())
	return nil
}

// ErrNoDevice tells that no device elsewhere has a name.
var ErrNoDevice = errors.New("no device elsewhere has this name")

// PartFor is a device's part of the plan in force, with the secrets of its places sealed
// to its key, unless it has that one already, by its mark.
func (s *Service) PartFor(name, has string) (link.Plan, error) {
	e := &s.elsewhere
	e.mu.Lock()
	m, known := e.members[name]
	e.mu.Unlock()
	if !known {
		return link.Plan{}, ErrNoDevice
	}
	if m.Was != "" { // the plan does not have its new name yet
		return link.Plan{Mark: has}, nil
	}
	whole := s.Book.PlanOrEmpty()
	part := whole.PartOf(name)
	if part == nil {
		return link.Plan{Mark: "none"}, nil
	}
	p := link.Plan{Device: name, Text: plantext.Write(part)}
	var secrets []link.Secret
	for to := range part.Destinations {
		d := whole.Destinations[to]
		for kind, from := range vault.SecretsOf(d) {
			secret, err := s.drivers.secrets.Read(kind, from, d.Server())
			if err != nil { // the device says that it has none
				s.Log.Warn("a secret cannot be given to a device", "device", name, "destination", to, "err", err)
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
			s.Log.Warn("an authority's certificate cannot be given to a device", "device", name, "destination", to, "err", err)
			continue
		}
		secrets = append(secrets, link.Secret{Kind: authority, Name: to, Server: d.Server(), Secret: string(pem)})
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
func (s *Service) Desk() *link.Desk { return &s.elsewhere.desk }

// PartKeepsFree tells how much is kept free at a destination, and whether it is of a device's
// part of the plan.
func (s *Service) PartKeepsFree(device, name string) (int64, bool) {
	p := s.Book.PlanOrEmpty()
	d, there := p.Destinations[name]
	s.elsewhere.mu.Lock()
	was := s.elsewhere.members[device].Was // while the plan does not have its new name yet
	s.elsewhere.mu.Unlock()
	return int64(d.KeepFree), there && (p.SendsTo(device, name) || was != "" && p.SendsTo(was, name))
}

// Certificate is the service's, for the home network.
func (s *Service) Certificate() tls.Certificate { return s.elsewhere.cert }

// HomeNetwork tells where the service listens for devices elsewhere.
func (s *Service) HomeNetwork() wire.HomeNetwork {
	e := &s.elsewhere
	e.mu.Lock()
	defer e.mu.Unlock()
	h := e.home
	if own := ownAddress(); own != "" {
		h.Proposed = net.JoinHostPort(own, "7443")
	}
	return h
}

// SetHomeNetwork says where to listen for devices elsewhere; "" is nowhere. It is kept.
func (s *Service) SetHomeNetwork(address string) error {
	if s.Joined != nil {
		return refused("this device joined %s itself; devices join there", s.Joined.Home.Yard)
	}
	if address != "" {
		host, port, err := net.SplitHostPort(address)
		if err != nil || port == "" {
			return refused("%q is not an address such as 192.168.1.20:7443", address)
		}
		if ip := net.ParseIP(host); ip == nil {
			return refused("%q is not an address of this computer; it would be such as 192.168.1.20:7443", address)
		}
	}
	if err := atomicfile.Write(s.homeFile(), address+"\n"); err != nil {
		return fmt.Errorf("keeping where to listen: %w", err)
	}
	e := &s.elsewhere
	e.mu.Lock()
	if e.home.Address != address {
		e.home.Address, e.home.Problem = address, ""
		close(e.moved)
		e.moved = make(chan struct{})
	}
	e.mu.Unlock()
	s.Changes.Tell()
	return nil
}

// HomeAddress is where to listen, and what is closed when that changes.
func (s *Service) HomeAddress() (address string, moved <-chan struct{}) {
	e := &s.elsewhere
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.home.Address, e.moved
}

// Listens notes whether the service listens on the home network; problem is why not. On
// a port of the system's choice, address tells which it is.
func (s *Service) Listens(listening bool, address, problem string) {
	e := &s.elsewhere
	e.mu.Lock()
	e.home.Listening, e.home.Problem = listening, problem
	if listening {
		e.home.Address = address
	}
	e.mu.Unlock()
	s.Changes.Tell()
}

// sweepClaims ends what devices claimed and need no more.
func (s *Service) sweepClaims(ctx context.Context) {
	tick := time.NewTicker(10 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			s.elsewhere.desk.Sweep(now, "")
			if err := s.removeLeft(now); err != nil {
				s.Log.Warn("what was told of devices that were revoked stays", "err", err)
			}
			s.Changes.Tell() // who was heard of last when
		}
	}
}
