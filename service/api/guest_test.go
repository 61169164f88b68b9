package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/fxamacker/cbor/v2"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/link"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
	"yardtide/engine/sensor"
	"yardtide/engine/tell"
	"yardtide/service"
	"yardtide/service/household"
	"yardtide/wire"
)

// guestYard is a service with a device of its own, one elsewhere that is honest, and one that
// lies about whatever it can.
type guestYard struct {
	t       *testing.T
	service *service.Service
	at      string
	client  *http.Client
	tokens  map[string]string
	told    map[string][]records.Rows
}

const guestPlan = `yard: Test
timezone: UTC
destinations:
  shed: {kind: folder, path: %q}
  locker: {kind: folder, path: %q}
devices:
  desk: {sources: [{folder: Pictures, rule: all}]}
  deck-phone: {sources: [{folder: DCIM, rule: all}]}
  guest: {sources: [{folder: DCIM, rule: few}]}
rules:
  all: {take: [photo], to: [shed, locker], lanes: [{over: wifi}]}
  few: {take: [photo], to: [locker], lanes: [{over: wifi}]}
`

func newGuestYard(t *testing.T) *guestYard {
	dir := t.TempDir()
	for _, place := range []string{"shed", "locker/2026", "home/Pictures"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, place), 0o755))
	}
	require.NoError(t, os.WriteFile(dir+"/locker/2026/deck-phone.jpg", []byte("nine byte"), 0o644))
	log := slog.New(slog.DiscardHandler)
	var sense sensor.Set
	s, err := service.Open(t.Context(), service.Options{Dir: dir + "/data", Log: log,
		Members: []service.Local{{Name: "desk", Root: dir + "/home", Sensor: &sense}}})
	require.NoError(t, err)
	_, err = s.Book.Apply(t.Context(), "plan", fmt.Sprintf(guestPlan, dir+"/shed", dir+"/locker"), 0)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 2)
	go func() { ended <- NewHome(s, nil, log).Serve(ctx, l) }()
	go func() { ended <- s.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-ended)
		assert.NoError(t, <-ended)
		assert.NoError(t, s.Close())
	})
	y := &guestYard{t: t, service: s, at: "https://" + l.Addr().String(), tokens: map[string]string{},
		told: map[string][]records.Rows{},
		client: &http.Client{Timeout: time.Minute,
			Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}}
	for _, name := range []string{"deck-phone", "guest"} {
		y.join(name)
		y.told[name] = y.recordsOf(name)
		require.Equal(t, http.StatusOK, y.push(name, y.batch(name)))
	}
	return y
}

func (y *guestYard) join(name string) {
	y.t.Helper()
	code, err := y.service.Household.LocalCode(name, "/none", time.Now())
	require.NoError(y.t, err)
	id, err := age.GenerateX25519Identity()
	require.NoError(y.t, err)
	token := bytes.Repeat([]byte(name[:1]), 32)
	_, err = y.service.Household.Join(y.t.Context(),
		link.Join{Secret: code.Secret[:], Token: token, Recipient: id.Recipient().String()}, "127.0.0.1", time.Now())
	require.NoError(y.t, err)
	y.tokens[name] = hex.EncodeToString(token)
}

// recordsOf are rows of every part that a device tells, with one picture that is safe.
func (y *guestYard) recordsOf(name string) []records.Rows {
	y.t.Helper()
	ctx := y.t.Context()
	r, err := recordstest.Open(ctx, y.t.TempDir()+"/r.db")
	require.NoError(y.t, err)
	defer r.Close()
	p, err := plantext.Parse("plan", []byte(fmt.Sprintf(guestPlan, "/a", "/b")))
	require.NoError(y.t, err)
	now := time.Now()
	require.NoError(y.t, r.Catalogue.Apply(ctx, p, name, now))
	rule := p.Devices[name].Sources[0].Rules[0]
	require.NoError(y.t, r.Catalogue.Admit(ctx,
		[]records.Item{{Source: "DCIM", Dir: ".", Name: name + ".jpg", Size: 9, Kind: media.Photo, Rule: rule,
			ContentType: "image/jpeg", TakenMS: now.UnixMilli()}}, p, now))
	require.NoError(y.t, r.Outbox.Follow(ctx))
	sum := sha256.Sum256([]byte("nine byte"))
	remote, hash, yes := "2026/"+name+".jpg", hex.EncodeToString(sum[:]), true
	for _, to := range []queue.State{queue.Sending, queue.Proving, queue.Safe} {
		for id := range p.Rules[rule].To {
			require.NoError(y.t, r.Queue.Step(ctx, int64(id+1), to, "told",
				records.Change{Remote: &remote, SHA256: &hash, Landed: &yes, ProvenAt: &now}, now))
		}
	}
	_, err = r.Ledger.Reserve(ctx, 1, records.Spend{Network: plan.Cellular, Rule: rule}, nil, 10, now)
	require.NoError(y.t, err)
	rows, _, err := r.Outbox.Noted(ctx, 10000)
	require.NoError(y.t, err)
	return rows
}

func (y *guestYard) batch(name string) link.Batch {
	return link.Batch{ID: fmt.Sprint("b", time.Now().UnixNano()), Begin: true, Whole: true, Epoch: "epoch" + name,
		Rows: y.told[name], Boot: "boot", Count: time.Now().UnixNano(), Time: time.Now(), Plan: "none", Version: "test",
		Known: &tell.Known{Conditions: gate.Conditions{Network: plan.WiFi},
			Sources: map[string]tell.Source{"DCIM": {Path: "/DCIM", Scanned: time.Now()}},
			Places:  map[string]gate.At{"locker": {Left: -1}}, Sends: []tell.Send{},
			Stands: map[string]tell.Stand{"locker": {ID: "x", Seen: time.Now()}}}}
}

// post calls as a device. 0 is a call that was not answered in time, as one that waits.
func (y *guestYard) post(name, path string, body []byte) int {
	y.t.Helper()
	r, err := http.NewRequestWithContext(y.t.Context(), http.MethodPost, y.at+path, bytes.NewReader(body))
	require.NoError(y.t, err)
	r.Header.Set("Authorization", "Bearer "+y.tokens[name])
	res, err := y.client.Do(r)
	if err != nil {
		return 0
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(y.t, err)
	// who knows a hash is told where it lies
	if res.StatusCode < 300 && name == "guest" && !strings.HasSuffix(path, "/holder") {
		for _, others := range []string{"deck-phone.jpg", "DCIM", "desk.jpg"} {
			assert.NotContains(y.t, strings.ReplaceAll(string(text), "folder: DCIM", ""), others, "%s %s is told of another's",
				path, body)
		}
	}
	return res.StatusCode
}

func (y *guestYard) push(name string, b link.Batch) int {
	body, err := b.Pack()
	require.NoError(y.t, err)
	return y.post(name, "/link/changes", body)
}

// state is what every page tells, but for the guest's own rows and times.
func (y *guestYard) state() string {
	y.t.Helper()
	st, err := y.service.Status(y.t.Context())
	require.NoError(y.t, err)
	var told []any
	for _, d := range st.Devices {
		items, err := y.deviceItems(d.Name)
		require.NoError(y.t, err)
		if d.Name != "guest" {
			told = append(told, d.Name, d.States, d.Problem, items)
		}
	}
	_, err = json.Marshal(st)
	require.NoError(y.t, err, "the page can be written")
	text, err := json.Marshal(told)
	require.NoError(y.t, err)
	return string(text)
}

func (y *guestYard) deviceItems(name string) ([]wire.Item, error) {
	d, _ := y.service.Device(name)
	items, err := d.Told.Items(y.t.Context(), wire.Filter{Limit: 50})
	if err != nil {
		return nil, err
	}
	for _, it := range items {
		if _, err := d.Told.Story(y.t.Context(), it.Key); err != nil {
			return nil, err
		}
	}
	_, err = json.Marshal(items)
	return items, err
}

// wrongJSON are values that a field may be given, of every family: of another type, beyond the
// range, too long, too deep, leading elsewhere.
var wrongJSON = []string{
	`null`, `""`, `"x"`, `-1`, `1e300`, `9223372036854775807`, `-9223372036854775808`, `true`, `[]`, `{}`,
	`[[[[[[[[[[[[[[[[[[[[1]]]]]]]]]]]]]]]]]]]]`,
	`"../../2026/deck-phone.jpg"`, `"/etc/passwd"`, `"2026/deck-phone.jpg"`, `"shed"`, `"` + strings.Repeat("a", 5000) +
		`"`, `"\u0000"`, `"\u202e"`, `"10000-01-01T00:00:00Z"`, `["a","a"]`,
	`"` + strings.Repeat("ab", 32) + `"`, `4611686018427387904`,
}

func TestADeviceThatLiesInItsQuestions(t *testing.T) {
	y := newGuestYard(t)
	y.client.Timeout = 150 * time.Millisecond
	before := y.state()
	calls := 0
	refused := func(path, body string) {
		code := y.post("guest", path, []byte(body))
		calls++
		assert.Contains(t, []int{0, 200, 400, 401, 403, 404, 413, 422, 429}, code, "%s %.300s", path, body)
	}
	whole := link.Asked{Copy: records.Copy{ID: 1, Class: queue.Class{Destination: "locker"}, Bytes: 9,
		Remote: "2026/guest.jpg"}, Destination: "locker", Look: "look", Hash: strings.Repeat("cd", 32), Bytes: 9,
		Path: "2026/guest.jpg",
		Says: "says", Todo: "todo", Claim: "claim", Ended: []string{"other"}, Boot: "boot",
		Found: records.Lying{Destination: "locker", Path: "a.jpg", Size: 9}, Rooms: []link.RoomAsked{{Destination: "locker",
			Underway: 1, Wants: 2, Landed: 3}}}
	for _, what := range []string{"alike", "holder", "taken", "found", "hashed", "lost", "turn", "name", "room", "ended",
		"nothing"} {
		eachField(t, whole, func(body string) { refused("/link/others/"+what, body) })
	}
	eachField(t, link.Wait{Plan: "other", Claims: []string{"a"}, Boot: "boot", Done: 1},
		func(body string) { refused("/link/wait", body) })
	eachField(t, link.Answer{ID: 1, Is: json.RawMessage(`{}`), Says: "x", Kind: "y"},
		func(body string) { refused("/link/answer", body) })
	for _, body := range []string{"", "{", "\x00", strings.Repeat("[", 100_000),
		`{"copy":` + strings.Repeat(`{"a":`, 5000) + `1` + strings.Repeat("}", 5000) + "}"} {
		for _, path := range []string{"/link/others/holder", "/link/wait", "/link/answer", "/link/changes", "/join"} {
			refused(path, body)
		}
	}
	require.Greater(t, calls, 3000)
	assert.Equal(t, before, y.state(), "nothing of others changed")
}

// eachField has every field of a message take every wrong value.
func eachField(t *testing.T, message any, do func(body string)) {
	t.Helper()
	text, err := json.Marshal(message)
	require.NoError(t, err)
	var fields map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(text, &fields))
	with := func(outer map[string]json.RawMessage, name, value string) string {
		other := map[string]json.RawMessage{}
		for k, v := range outer {
			other[k] = v
		}
		other[name] = json.RawMessage(value)
		body, err := json.Marshal(other)
		require.NoError(t, err)
		return string(body)
	}
	for name, value := range fields {
		for _, wrong := range wrongJSON {
			do(with(fields, name, wrong))
		}
		var inner map[string]json.RawMessage
		if json.Unmarshal(value, &inner) == nil {
			for field := range inner {
				for _, wrong := range wrongJSON {
					do(with(fields, name, with(inner, field, wrong)))
				}
			}
		}
	}
}

func TestADeviceThatLiesInWhatItTells(t *testing.T) {
	y := newGuestYard(t)
	before := y.state()
	wrong := []any{
		nil, "", "text", "\xff\xfe", strings.Repeat("a", 1<<20), "{", `[["a"]]`, "\x00", int64(-1), int64(math.MaxInt64),
		int64(math.MinInt64), uint64(math.MaxUint64), 1.5, math.NaN(), true,
		[]any{1}, map[string]any{"a": 1}, time.Now(), int64(253402300800000), []byte("bytes"), int64(1) << 55,
	}
	told := 0
	for part, rows := range y.told["guest"] {
		for column := range rows.Columns {
			for _, value := range wrong {
				if len(rows.Rows) == 0 {
					continue
				}
				b := y.batch("guest")
				b.Rows = slices.Clone(b.Rows)
				own := rows
				own.Rows = slices.Clone(rows.Rows)
				own.Rows[0] = slices.Clone(own.Rows[0])
				own.Rows[0][column] = value
				b.Rows[part] = own
				body, err := b.Pack()
				require.NoError(t, err)
				code := y.post("guest", "/link/changes", body)
				told++
				assert.Contains(t, []int{200, 400, 422}, code, "%s.%s = %.40v", rows.Part, rows.Columns[column], value)
				if code == 200 {
					assert.Equal(t, before, y.state(), "%s.%s = %.40v", rows.Part, rows.Columns[column], value)
					d, _ := y.service.Device("guest")
					st, err := d.Told.Status(t.Context())
					require.NoError(t, err)
					assert.Empty(t, st.Problem, "%s.%s = %.40v was taken, and spoils the page", rows.Part, rows.Columns[column], value)
				}
			}
		}
	}
	for name, change := range map[string]func(*link.Batch){
		"a part that is none":   func(b *link.Batch) { b.Rows = append(b.Rows, records.Rows{Part: "facts"}) },
		"a statement":           func(b *link.Batch) { b.Rows[0].Part = "items; DROP TABLE items" },
		"a column that is none": func(b *link.Batch) { b.Rows[0].Columns = append(slices.Clone(b.Rows[0].Columns), "x) --") },
		"a year too far":        func(b *link.Batch) { b.Known.Awake.Until = time.Date(12000, 1, 1, 0, 0, 0, 0, time.UTC) },
		"a clock too far":       func(b *link.Batch) { b.Time = time.Date(-5, 1, 1, 0, 0, 0, 0, time.UTC) },
		"a scan too far": func(b *link.Batch) {
			b.Known.Sources["DCIM"] = tell.Source{Scanned: time.Date(99999, 1, 1, 0, 0, 0, 0, time.UTC)}
		},
		"more room than there is":  func(b *link.Batch) { b.Known.Places["locker"] = gate.At{Left: math.MaxInt64} },
		"a network nobody knows":   func(b *link.Batch) { b.Known.Conditions.Network = "carrier pigeon" },
		"a battery beyond":         func(b *link.Batch) { b.Known.Conditions.Battery = 1 << 40 },
		"a count that went round":  func(b *link.Batch) { b.Count = math.MinInt64 },
		"no run":                   func(b *link.Batch) { b.Boot = "" },
		"an epoch that never ends": func(b *link.Batch) { b.Epoch = strings.Repeat("e", 1<<16) },
		"another's pause": func(b *link.Batch) {
			b.Known.Pause.Until = time.Date(10001, 1, 1, 0, 0, 0, 0,
				time.UTC)
		},
	} {
		b := y.batch("guest")
		b.Rows = slices.Clone(b.Rows)
		change(&b)
		body, err := b.Pack()
		if err != nil {
			continue // no program can write it
		}
		assert.Contains(t, []int{200, 400, 422}, y.post("guest", "/link/changes", body), name)
		assert.Equal(t, before, y.state(), name)
	}
	deep, err := cbor.Marshal(map[string]any{"rows": nested(40)})
	require.NoError(t, err)
	assert.Contains(t, []int{400, 422}, y.post("guest", "/link/changes", deep))
	require.Greater(t, told, 1500)
	assert.Equal(t, before, y.state(), "nothing of others changed")
}

func nested(deep int) any {
	if deep == 0 {
		return 1
	}
	return []any{nested(deep - 1)}
}

// TestWhatIsKeptOfOneDeviceSpoilsNoPage damages what the service has of the guest on disk.
func TestWhatIsKeptOfOneDeviceSpoilsNoPage(t *testing.T) {
	y := newGuestYard(t)
	before := y.state()
	d, _ := y.service.Device("guest")
	mirror := d.Machine.(*link.Mirror)
	files, err := filepath.Glob(y.service.Dir + "/devices/guest/mirror-*.db")
	require.NoError(t, err)
	for _, file := range files {
		db, err := sqlx.Open("sqlite", file)
		require.NoError(t, err)
		_, err = db.Exec(`UPDATE standings SET copies = '{' || id`)
		require.NoError(t, err)
		require.NoError(t, db.Close())
	}
	assert.Equal(t, before, y.state())
	st, err := mirror.Told.Status(t.Context())
	require.NoError(t, err)
	assert.Contains(t, st.Problem, "What guest told cannot be read since")
	// It tells everything anew as soon as it is heard of.
	b := y.batch("guest")
	b.Begin, b.After = false, "before"
	require.Equal(t, http.StatusOK, y.push("guest", b))
	require.Equal(t, http.StatusOK, y.push("guest", y.batch("guest")))
	st, err = mirror.Told.Status(t.Context())
	require.NoError(t, err)
	assert.Empty(t, st.Problem)
	assert.EqualValues(t, 1, st.States[queue.Safe].N)
}

// TestAGuestsWordOfOthersIsLookedAt has the guest claim that another's copy is lost, at a place
// of its own part and at one that is not.
func TestAGuestsWordOfOthersIsLookedAt(t *testing.T) {
	y := newGuestYard(t)
	before := y.state()
	ask := func(what string, q link.Asked) int {
		q.Boot = "boot"
		body, err := json.Marshal(q)
		require.NoError(t, err)
		return y.post("guest", "/link/others/"+what, body)
	}
	assert.Equal(t, http.StatusForbidden, ask("lost", link.Asked{Destination: "shed", Path: "2026/deck-phone.jpg"}))
	assert.Equal(t, http.StatusForbidden, ask("holder",
		link.Asked{Destination: "shed", Bytes: 9, Hash: strings.Repeat("ab", 32)}))
	assert.Equal(t, http.StatusForbidden, ask("found", link.Asked{Destination: "shed", Bytes: 9}))
	assert.Equal(t, http.StatusForbidden, ask("name", link.Asked{Destination: "nowhere", Path: "a", Claim: "c"}))
	assert.Equal(t, http.StatusOK, ask("lost", link.Asked{Destination: "locker", Path: "2026/deck-phone.jpg"}))
	assert.Equal(t, http.StatusOK, ask("lost", link.Asked{Destination: "locker", Path: "2026/guest.jpg"}))
	d, _ := y.service.Device("guest")
	require.Eventually(t, func() bool { // that one is not there: it was looked at after the other
		st, err := d.Told.Status(t.Context())
		return err == nil && st.States[queue.Safe].N == 0
	}, time.Minute, 10*time.Millisecond)
	assert.Equal(t, before, y.state(), "what is there stays safe, whoever says that it is lost")
	own, err := y.deviceItems("guest")
	require.NoError(t, err)
	require.Len(t, own, 1)
	assert.Equal(t, string(queue.Proving), own[0].State)
	assert.Contains(t, own[0].Says, "It is doubted until its device is heard of.")
	for i := range 512 {
		assert.Equal(t, http.StatusOK, ask("name", link.Asked{Destination: "locker", Path: fmt.Sprint("2026/", i),
			Claim: fmt.Sprint("c", i)}))
	}
	assert.Equal(t, http.StatusTooManyRequests,
		ask("name", link.Asked{Destination: "locker", Path: "2026/more", Claim: "more"}), "claims are few")
}

func TestJoiningIsForOneDeviceOneName(t *testing.T) {
	y := newGuestYard(t)
	s := y.service
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	join := func(secret, token []byte, from string) error {
		_, err := s.Household.Join(t.Context(), link.Join{Secret: secret, Token: token, Recipient: id.Recipient().String()},
			from, time.Now())
		return err
	}
	_, err = s.Household.LocalCode("Guest", "/none", time.Now())
	require.ErrorContains(t, err, "capital letters alone", "guest and Guest are one")
	_, err = s.Household.LocalCode("DESK", "/none", time.Now())
	require.Error(t, err)

	code, err := s.Household.LocalCode("tablet", "/none", time.Now())
	require.NoError(t, err)
	guests, err := hex.DecodeString(y.tokens["guest"])
	require.NoError(t, err)
	require.ErrorIs(t, join(code.Secret[:], guests, "10.0.0.9"), household.ErrNoJoin,
		"its token is in use under another name")

	// Who tries codes is slowed down, and ends nobody else's.
	wrong := bytes.Repeat([]byte("w"), len(code.Secret))
	var soon household.TooSoon
	for range 6 {
		err = join(wrong, []byte("a token of its own"), "10.0.0.9")
		require.Error(t, err)
	}
	require.ErrorAs(t, join(code.Secret[:], []byte("a token of its own"), "10.0.0.9"), &soon)
	require.NoError(t, join(code.Secret[:], []byte("the tablet's own token"), "10.0.0.8"))
	require.NoError(t, join(code.Secret[:], []byte("the tablet's own token"), "10.0.0.8"), "the answer was lost")
	require.ErrorIs(t, join(code.Secret[:], []byte("somebody else's token"), "10.0.0.8"), household.ErrNoJoin)

	// A code lasts ten minutes from when it was given, to the moment.
	given := time.Now()
	for after, want := range map[time.Duration]error{0: nil, 10 * time.Minute: nil, 10*time.Minute +
		time.Nanosecond: household.ErrNoJoin, 24 * time.Hour: household.ErrNoJoin} {
		name := fmt.Sprint("phone-", int64(after))
		code, err := s.Household.LocalCode(name, "/none", given)
		require.NoError(t, err)
		_, err = s.Household.Join(t.Context(), link.Join{Secret: code.Secret[:], Token: []byte("the token of " + name),
			Recipient: id.Recipient().String()}, "from "+name, given.Add(after))
		require.ErrorIs(t, err, want, "after %s", after)
	}

	// A full disk in between uses no code up.
	code, err = s.Household.LocalCode("laptop", "/none", time.Now())
	require.NoError(t, err)
	folder := filepath.Join(s.Dir, "devices", "laptop")
	require.NoError(t, os.WriteFile(folder, nil, 0o600)) // nothing can be kept below a file
	token := []byte("the laptop's own token")
	require.Error(t, join(code.Secret[:], token, "10.0.0.7"))
	require.NoError(t, os.Remove(folder))
	require.NoError(t, join(code.Secret[:], token, "10.0.0.7"))
	_, _, known := s.Household.Caller(token)
	assert.True(t, known)
}
