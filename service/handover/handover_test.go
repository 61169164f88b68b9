package handover_test

import (
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"mime/multipart"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/link"
	"yardtide/engine/records"
	"yardtide/service/handover"
	"yardtide/service/household"
	"yardtide/service/phones"
	"yardtide/wire"
	"yardtide/wire/phonewire"
)

// yard is phones with a listener. What would be a device's word of a file, the test says.
type yard struct {
	t      *testing.T
	dir    string
	phones *phones.Phones
	at     string
	sftp   string
	free   int64
	stop   func()

	mu    sync.Mutex
	safe  map[string]bool // by phone and path
	opens []*records.Records
}

func newYard(t *testing.T) *yard {
	t.Helper()
	y := &yard{t: t, dir: t.TempDir(), safe: map[string]bool{}, free: -1}
	y.start()
	t.Cleanup(func() { y.stop() })
	return y
}

var everyday = &plan.Plan{Yard: "Slip", People: []string{"ines"}, Devices: map[string]plan.Device{"a": {Person: "ines"}, "b": {},
	"ines-phone": {Person: "ines", Sources: []plan.Source{{Folder: "page", Rules: []string{"everyday"}}}},
	"toms-phone": {Sources: []plan.Source{{Folder: "page", Rules: []string{"everyday"}}}}},
	Rules: map[string]plan.Rule{"everyday": {Take: []media.Kind{media.Photo}, To: []string{"shed"}}}}

func (y *yard) start() {
	t := y.t
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	y.phones = phones.New(phones.Options{Dir: y.dir, Log: log, Plan: func() *plan.Plan { return everyday }, Tell: func() {},
		Edit: func(context.Context, []plan.Edit) error { return nil }, Free: func() int64 { return y.free },
		HasAny: func(_ context.Context, devices []string, to string, _ int64, hash string) (bool, error) {
			return slices.Equal(devices, []string{"a"}) && to == "shed" && hash == sum("mine"), nil // by the size alone: no
		},
		Begin: func(ctx context.Context, name, root string) (phones.Taker, error) {
			r, err := records.Open(ctx, filepath.Join(y.dir, "devices", name, "records.db"))
			if err != nil {
				return phones.Taker{}, err
			}
			y.opens = append(y.opens, r)
			return phones.Taker{Records: r, Under: func(_ context.Context, paths [][2]string) (list []*wire.Item, err error) {
				y.mu.Lock()
				defer y.mu.Unlock()
				for _, p := range paths {
					state := queue.Waiting
					if y.safe[name+" "+p[0]+"/"+p[1]] {
						state = queue.Safe
					}
					list = append(list, &wire.Item{State: string(state), Copies: []wire.Copy{{Destination: "shed", State: string(state)}}})
				}
				return list, nil
			}}, nil
		}})
	require.NoError(t, y.phones.Open(t.Context()))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &handover.Server{Phones: y.phones, Page: fstest.MapFS{"phone.html": {Data: []byte("<p>page")}, "assets/a.js": {Data: []byte("1")}}, Log: log}
	y.at = "http://" + l.Addr().String()
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() { assert.NoError(t, s.Serve(ctx, l, false)) })
	der, err := link.NewKey()
	require.NoError(t, err)
	own, _, err := link.Certificate(der)
	require.NoError(t, err)
	authority, err := household.OpenAuthority(y.dir, own)
	require.NoError(t, err)
	files, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	y.sftp = files.Addr().String()
	all.Go(func() { assert.NoError(t, s.ServeSFTP(ctx, files, authority.HostKey())) })
	y.stop = sync.OnceFunc(func() {
		cancel()
		all.Wait()
		assert.NoError(t, y.phones.Close())
		for _, r := range y.opens {
			assert.NoError(t, r.Close())
		}
		y.opens = nil
	})
}

// add adds a phone.
func (y *yard) add(name string) phones.Keys {
	y.t.Helper()
	_, keys, err := y.phones.Add(y.t.Context(), phonewire.PhoneAdd{Name: name}, time.Now())
	require.NoError(y.t, err)
	return keys
}

// ask makes a call, with headers as pairs.
func (y *yard) ask(method, path, token string, body io.Reader, headers ...string) *http.Response {
	y.t.Helper()
	r, err := http.NewRequestWithContext(y.t.Context(), method, y.at+path, body)
	require.NoError(y.t, err)
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	a, err := client.Do(r)
	require.NoError(y.t, err)
	text, err := io.ReadAll(a.Body)
	require.NoError(y.t, err)
	require.NoError(y.t, a.Body.Close())
	a.Body = io.NopCloser(bytes.NewReader(text))
	return a
}

func metadata(pairs ...string) string {
	var all []string
	for i := 0; i < len(pairs); i += 2 {
		all = append(all, pairs[i]+" "+base64.StdEncoding.EncodeToString([]byte(pairs[i+1])))
	}
	return strings.Join(all, ",")
}

const piece = "application/offset+octet-stream"

// begin begins an upload, and tells where it is.
func (y *yard) begin(token string, size int64, pairs ...string) string {
	y.t.Helper()
	a := y.ask("POST", "/p/uploads", token, nil, "Tus-Resumable", "1.0.0", "Upload-Length", strconv.FormatInt(size, 10), "Upload-Metadata", metadata(pairs...))
	require.Equal(y.t, http.StatusCreated, a.StatusCode, "%s", readAll(a))
	return a.Header.Get("Location")
}

func (y *yard) patch(token, at string, offset int, body io.Reader, headers ...string) *http.Response {
	y.t.Helper()
	return y.ask("PATCH", at, token, body, append([]string{"Tus-Resumable", "1.0.0", "Content-Type", piece, "Upload-Offset", strconv.Itoa(offset)},
		headers...)...)
}

func readAll(a *http.Response) string {
	text, _ := io.ReadAll(a.Body)
	return string(text)
}

// here are the files of a phone's inbox, by their path.
func (y *yard) here(phone string) map[string]string {
	y.t.Helper()
	all := map[string]string{}
	root := filepath.Join(y.dir, "inbox", phone)
	require.NoError(y.t, filepath.WalkDir(root, func(at string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			if e != nil && e.IsDir() && strings.HasPrefix(e.Name(), ".") {
				return filepath.SkipDir
			}
			return err
		}
		content, err := os.ReadFile(at)
		rel, _ := filepath.Rel(root, at)
		all[filepath.ToSlash(rel)] = string(content)
		return err
	}))
	return all
}

func content(n int, seed uint64) string {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)})
	_, _ = r.Read(b)
	return string(b)
}

func sum(s string) string {
	is := sha256.Sum256([]byte(s))
	return hex.EncodeToString(is[:])
}

// tus 1.0: an upload goes on where it was, however it was cut, and is there whole or not at all.
func TestAnUploadGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	key := y.add("toms-phone").Page
	is := content(300_000, 1)
	at := y.begin(key, int64(len(is)), "filename", "boat.jpg", "path", "June/boat.jpg", "sha256", sum(is), "modified", "1780000000000")
	assert.Empty(t, y.here("toms-phone"))
	a := y.patch(key, at, 0, strings.NewReader(is[:100_000]))
	assert.Equal(t, http.StatusNoContent, a.StatusCode)
	assert.Equal(t, "100000", a.Header.Get("Upload-Offset"))
	assert.Equal(t, http.StatusConflict, y.patch(key, at, 5, strings.NewReader("x")).StatusCode, "not where it ends")

	// A connection that is cut in the middle of a piece: what came of it counts.
	raw, err := net.Dial("tcp", strings.TrimPrefix(y.at, "http://"))
	require.NoError(t, err)
	fmt.Fprintf(raw, "PATCH %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nTus-Resumable: 1.0.0\r\nContent-Type: %s\r\nUpload-Offset: 100000\r\nContent-Length: 200000\r\n\r\n%s",
		at, key, piece, is[100_000:150_000])
	time.Sleep(200 * time.Millisecond)
	// The phone comes back by another network while the first connection still stands: it is not locked out.
	a = y.ask("HEAD", at, key, nil, "Tus-Resumable", "1.0.0")
	assert.Equal(t, http.StatusOK, a.StatusCode)
	assert.Equal(t, "150000", a.Header.Get("Upload-Offset"))
	assert.Equal(t, "300000", a.Header.Get("Upload-Length"))
	require.NoError(t, raw.Close())

	y.stop() // and the service is begun anew
	y.start()
	a = y.ask("HEAD", at, key, nil, "Tus-Resumable", "1.0.0")
	assert.Equal(t, "150000", a.Header.Get("Upload-Offset"))
	assert.Empty(t, y.here("toms-phone"))
	a = y.patch(key, at, 150_000, strings.NewReader(is[150_000:]))
	assert.Equal(t, http.StatusNoContent, a.StatusCode, "%s", readAll(a))
	assert.Equal(t, map[string]string{"page/June/boat.jpg": is}, y.here("toms-phone"))
	info, err := os.Stat(filepath.Join(y.dir, "inbox/toms-phone/page/June/boat.jpg"))
	require.NoError(t, err)
	assert.EqualValues(t, 1780000000000, info.ModTime().UnixMilli())
	// The answer may be lost: asked again it is told that all came, also after a restart.
	y.stop()
	y.start()
	assert.Equal(t, "300000", y.ask("HEAD", at, key, nil, "Tus-Resumable", "1.0.0").Header.Get("Upload-Offset"))
}

// What is not what was announced is not taken in.
func TestAnUploadThatLies(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	key := y.add("toms-phone").Page
	a := y.ask("OPTIONS", "/p/uploads", key, nil)
	assert.Equal(t, http.StatusNoContent, a.StatusCode)
	assert.Equal(t, "creation,creation-with-upload,termination,checksum,expiration", a.Header.Get("Tus-Extension"))

	at := y.begin(key, 4, "filename", "a.jpg", "sha256", sum("good"))
	assert.Equal(t, http.StatusBadRequest, y.patch(key, at, 0, strings.NewReader("evil")).StatusCode, "another content")
	assert.Equal(t, http.StatusNotFound, y.ask("HEAD", at, key, nil, "Tus-Resumable", "1.0.0").StatusCode, "it is to be begun anew")

	at = y.begin(key, 4, "filename", "a.jpg")
	assert.Equal(t, http.StatusBadRequest, y.patch(key, at, 0, strings.NewReader("more than that")).StatusCode)
	at = y.begin(key, 8, "filename", "a.jpg")
	wrong := sha1.Sum([]byte("else"))
	assert.Equal(t, 460, y.patch(key, at, 0, strings.NewReader("good"), "Upload-Checksum", "sha1 "+base64.StdEncoding.EncodeToString(wrong[:])).StatusCode)
	assert.Equal(t, "0", y.ask("HEAD", at, key, nil, "Tus-Resumable", "1.0.0").Header.Get("Upload-Offset"), "nothing of that piece counts")
	right := sha1.Sum([]byte("good"))
	assert.Equal(t, http.StatusNoContent, y.patch(key, at, 0, strings.NewReader("good"), "Upload-Checksum", "sha1 "+base64.StdEncoding.EncodeToString(right[:])).StatusCode)
	assert.Equal(t, http.StatusNoContent, y.ask("DELETE", at, key, nil, "Tus-Resumable", "1.0.0").StatusCode)
	assert.Equal(t, http.StatusNotFound, y.patch(key, at, 4, strings.NewReader("good")).StatusCode)
	for name, headers := range map[string][]string{
		"no version":          {"Upload-Length", "3"},
		"no length":           {"Tus-Resumable", "1.0.0"},
		"a length below zero": {"Tus-Resumable", "1.0.0", "Upload-Length", "-3", "Upload-Metadata", metadata("filename", "x")},
		"no number":           {"Tus-Resumable", "1.0.0", "Upload-Length", "0x10", "Upload-Metadata", metadata("filename", "x")},
		"no name":             {"Tus-Resumable", "1.0.0", "Upload-Length", "3"},
		"no base64":           {"Tus-Resumable", "1.0.0", "Upload-Length", "3", "Upload-Metadata", "filename %%%"},
		"no hash":             {"Tus-Resumable", "1.0.0", "Upload-Length", "3", "Upload-Metadata", metadata("filename", "x", "sha256", "12")},
		"far too large":       {"Tus-Resumable", "1.0.0", "Upload-Length", "99999999999999", "Upload-Metadata", metadata("filename", "x")},
		"more than the inbox": {"Tus-Resumable", "1.0.0", "Upload-Length", "30000000000", "Upload-Metadata", metadata("filename", "x")},
	} {
		a := y.ask("POST", "/p/uploads", key, nil, headers...)
		assert.GreaterOrEqual(t, a.StatusCode, 400, name)
		assert.Contains(t, readAll(a), `"detail":"`, name)
	}
	assert.Empty(t, y.here("toms-phone"))
}

// However a file is called, it lies in its phone's own folder, under a name that every storage takes.
func TestNamesOfEveryKind(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	key := y.add("toms-phone").Page
	for i, name := range []string{"../../evil.jpg", "..", ".", "/", "a/../../b.jpg", `..\..\b.jpg`, strings.Repeat("d/", 40) + "x.jpg",
		strings.Repeat("long", 2000), "page/../../x"} {
		a := y.ask("POST", "/p/uploads", key, strings.NewReader("x"), "Tus-Resumable", "1.0.0", "Upload-Length", "1", "Content-Type", piece, "Upload-Metadata",
			metadata("filename", name))
		assert.Equal(t, http.StatusBadRequest, a.StatusCode, "%d %q", i, name)
	}
	for i, name := range []string{".hidden.jpg", "a\x00b.jpg", "CON.jpg", "trailing. ", "\u202egpj.exe", "ü/é.jpg", "\xff\xfe.jpg", `C:\DCIM\x.jpg`, "a:b?.jpg",
		strings.Repeat("n", 300) + ".jpg", ".parts/x.jpg", ".held/x.jpg"} {
		is := content(10, uint64(i))
		a := y.ask("POST", "/p/uploads", key, strings.NewReader(is), "Tus-Resumable", "1.0.0", "Upload-Length", "10", "Content-Type", piece, "Upload-Metadata",
			metadata("filename", name))
		assert.Equal(t, http.StatusCreated, a.StatusCode, "%q: %s", name, readAll(a))
	}
	here := y.here("toms-phone")
	assert.Len(t, here, 12)
	for name := range here {
		assert.True(t, strings.HasPrefix(name, "page/"), name)
		for step := range strings.SplitSeq(name, "/") {
			assert.False(t, strings.HasPrefix(step, "."), name)
			assert.LessOrEqual(t, len(step), 255)
		}
	}
	all, err := os.ReadDir(filepath.Join(y.dir, "inbox"))
	require.NoError(t, err)
	assert.Len(t, all, 1)
}

// Under a name that is taken the same content is there once, and another goes beside: nothing is written over.
func TestNothingIsWrittenOver(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	for _, is := range []string{"one", "one", "two", "one"} {
		y.patch(keys.Page, y.begin(keys.Page, 3, "filename", "a.jpg"), 0, strings.NewReader(is))
	}
	assert.Equal(t, map[string]string{"page/a.jpg": "one", "page/a (2).jpg": "two"}, y.here("toms-phone"))
	// An app that puts the same name expects the new content under it: the earlier moves aside.
	put := func(is string) int {
		return y.ask("PUT", "/dav/b.jpg", "", strings.NewReader(is), "Authorization", basic("toms-phone", keys.App)).StatusCode
	}
	assert.Equal(t, http.StatusCreated, put("one"))
	put("two")
	put("two")
	here := y.here("toms-phone")
	assert.Equal(t, "two", here["webdav/b.jpg"])
	assert.Equal(t, "one", here["webdav/b (2).jpg"])
	assert.Len(t, here, 4)
}

func basic(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

// Nobody gets in without the key of a phone, however a route is spelled; a phone's key opens nothing of another's.
func TestStrangersGetNothing(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	toms, ines := y.add("toms-phone"), y.add("ines-phone")
	at := y.begin(toms.Page, 4, "filename", "secret.jpg")
	y.patch(toms.Page, at, 0, strings.NewReader("boat"))
	half := y.begin(toms.Page, 8, "filename", "half.jpg")
	y.ask("PUT", "/dav/mine.jpg", "", strings.NewReader("boat"), "Authorization", basic("toms-phone", toms.App))
	revoked := y.add("old-phone")
	require.NoError(t, y.phones.Revoke("old-phone"))
	open := map[string]bool{"/p/": true, "/p/assets/a.js": true}
	paths := []string{"/p/mine", "/p/known", "/p/uploads", half, "/p/keep", "/p/share", "/dav/", "/dav/mine.jpg", "/dav/%6Dine.jpg"}
	for _, path := range append([]string{"/", "/p", "/P/mine", "//p/mine", "/p//mine", "/p/mine/", "/p/./mine", "/p/assets/../mine", "/p/%6Dine", "/p/mine%00",
		"/p/assets/..%2f..%2fphone.html", "/p/assets/%2e%2e/phone.html", "/dav", "/dav/../p/mine", "/api/v1/status", "/link/wait", "/join", "/p/uploads/../mine",
		"/p/certificate.crt/x", "/phone.html", "/p/phone.html"}, paths...) {
		for _, method := range []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "PROPFIND", "MOVE", "TRACE", "get"} {
			for who, headers := range map[string][]string{"nobody": nil, "a wrong key": {"Authorization", "Bearer " + strings.Repeat("a", 32)},
				"an empty key": {"Authorization", "Bearer "}, "a revoked one": {"Authorization", "Bearer " + revoked.Page},
				"a revoked app": {"Authorization", basic("old-phone", revoked.App)}, "the other's name": {"Authorization", basic("ines-phone", toms.App)},
				"a page's key as password": {"Authorization", basic("toms-phone", toms.Page)}, "a cookie": {"Cookie", "yard-phone=" + revoked.Page}} {
				a := y.raw(method, path, headers...)
				if open[path] && (method == "GET" || method == "HEAD") {
					continue
				}
				assert.GreaterOrEqual(t, a, 400, "%s %s by %s", method, path, who)
			}
		}
	}
	// Of another phone's things a phone's key tells nothing.
	assert.Equal(t, http.StatusNotFound, y.ask("HEAD", half, ines.Page, nil, "Tus-Resumable", "1.0.0").StatusCode)
	assert.Equal(t, http.StatusNotFound, y.patch(ines.Page, half, 0, strings.NewReader("spoiled!")).StatusCode)
	assert.Equal(t, http.StatusNotFound, y.ask("DELETE", half, ines.Page, nil, "Tus-Resumable", "1.0.0").StatusCode)
	assert.NotContains(t, readAll(y.ask("GET", "/p/mine", ines.Page, nil)), "secret")
	knows := readAll(y.ask("POST", "/p/known", ines.Page, strings.NewReader(`[{"sha256": "`+sum("boat")+`", "bytes": 4}]`)))
	assert.Contains(t, knows, `"known":false`, "nothing tells a guest what others have")
	assert.Contains(t, readAll(y.ask("POST", "/p/known", toms.Page, strings.NewReader(`[{"sha256": "`+sum("boat")+`", "bytes": 4}]`))), `"known":true`)
	assert.Equal(t, http.StatusNotFound, y.ask("GET", "/dav/mine.jpg", "", nil, "Authorization", basic("ines-phone", ines.App)).StatusCode)
	assert.NotContains(t, readAll(y.ask("PROPFIND", "/dav/", "", nil, "Authorization", basic("ines-phone", ines.App))), "mine.jpg")
}

// raw makes a call as it is spelled, and tells the status.
func (y *yard) raw(method, path string, headers ...string) int {
	y.t.Helper()
	c, err := net.Dial("tcp", strings.TrimPrefix(y.at, "http://"))
	require.NoError(y.t, err)
	defer c.Close()
	require.NoError(y.t, c.SetDeadline(time.Now().Add(10*time.Second)))
	fmt.Fprintf(c, "%s %s HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: 0\r\nTus-Resumable: 1.0.0\r\n", method, path)
	for i := 0; i < len(headers); i += 2 {
		fmt.Fprintf(c, "%s: %s\r\n", headers[i], headers[i+1])
	}
	fmt.Fprint(c, "\r\n")
	var code int
	_, err = fmt.Fscanf(c, "HTTP/1.1 %d", &code)
	require.NoError(y.t, err, "%s %s", method, path)
	return code
}

// A phone that is revoked ends at once, in the middle of what it sends.
func TestARevokedPhoneEndsAtOnce(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	key := y.add("toms-phone").Page
	at := y.begin(key, 1000, "filename", "a.jpg")
	r, w := io.Pipe()
	ended := make(chan int)
	go func() {
		q, err := http.NewRequest(http.MethodPatch, y.at+at, r)
		assert.NoError(t, err)
		q.ContentLength = 1000
		for k, v := range map[string]string{"Authorization": "Bearer " + key, "Tus-Resumable": "1.0.0", "Content-Type": piece, "Upload-Offset": "0"} {
			q.Header.Set(k, v)
		}
		a, err := http.DefaultClient.Do(q)
		if err != nil {
			ended <- 0
			return
		}
		_ = a.Body.Close()
		ended <- a.StatusCode
	}()
	_, err := w.Write([]byte("some"))
	require.NoError(t, err)
	time.Sleep(100 * time.Millisecond)
	require.NoError(t, y.phones.Revoke("toms-phone"))
	select {
	case code := <-ended:
		assert.Contains(t, []int{0, http.StatusUnauthorized}, code)
	case <-time.After(5 * time.Second):
		t.Fatal("it sends still")
	}
	_ = w.Close()
	assert.Empty(t, y.here("toms-phone"))
}

// What is safe goes into the holding place, then away, and stays known; what is not stays.
func TestTheInboxIsFreedOfWhatIsSafe(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	for _, name := range []string{"a.jpg", "b.jpg"} {
		a := y.ask("PUT", "/dav/"+name, "", strings.NewReader("boat "+name), "Authorization", basic("toms-phone", keys.App))
		require.Equal(t, http.StatusCreated, a.StatusCode)
	}
	now := time.Now()
	y.phones.FreeNow(t.Context(), now)
	assert.Len(t, y.here("toms-phone"), 2)
	assert.Equal(t, http.StatusForbidden, y.ask("DELETE", "/dav/a.jpg", "", nil, "Authorization", basic("toms-phone", keys.App)).StatusCode, "it is not safe")
	y.mu.Lock()
	y.safe["toms-phone webdav/a.jpg"] = true
	y.mu.Unlock()
	y.phones.FreeNow(t.Context(), now)
	assert.Equal(t, map[string]string{"webdav/b.jpg": "boat b.jpg"}, y.here("toms-phone"))
	held := func() int {
		all, err := os.ReadDir(filepath.Join(y.dir, "inbox/toms-phone/.held"))
		require.NoError(t, err)
		return len(all)
	}
	assert.Equal(t, 1, held())
	listed := func() string {
		return readAll(y.ask("PROPFIND", "/dav/", "", nil, "Authorization", basic("toms-phone", keys.App), "Depth", "1"))
	}
	assert.Contains(t, listed(), "a.jpg", "or its app would send it again")
	assert.Equal(t, "boat a.jpg", readAll(y.ask("GET", "/dav/a.jpg", "", nil, "Authorization", basic("toms-phone", keys.App))), "from the holding place")
	// It is judged once more before it is removed.
	y.mu.Lock()
	y.safe["toms-phone webdav/a.jpg"] = false
	y.mu.Unlock()
	y.phones.FreeNow(t.Context(), now.Add(8*24*time.Hour))
	assert.Len(t, y.here("toms-phone"), 2, "it is no longer safe: it is back")
	y.mu.Lock()
	y.safe["toms-phone webdav/a.jpg"] = true
	y.mu.Unlock()
	y.phones.FreeNow(t.Context(), now)
	assert.Equal(t, 1, held())
	y.phones.FreeNow(t.Context(), now.Add(6*24*time.Hour))
	assert.Equal(t, 1, held(), "not yet")
	y.phones.FreeNow(t.Context(), now.Add(8*24*time.Hour))
	assert.Zero(t, held())
	assert.Contains(t, listed(), "a.jpg")
	assert.Equal(t, http.StatusGone, y.ask("GET", "/dav/a.jpg", "", nil, "Authorization", basic("toms-phone", keys.App)).StatusCode)
	// The same again is known, by its name and by its content.
	y.ask("PUT", "/dav/a.jpg", "", strings.NewReader("boat a.jpg"), "Authorization", basic("toms-phone", keys.App))
	assert.Len(t, y.here("toms-phone"), 1)
	assert.Contains(t, readAll(y.ask("POST", "/p/known", keys.Page, strings.NewReader(`[{"sha256": "`+sum("boat a.jpg")+`", "bytes": 10}]`))),
		`"may":true,"says":"Safe at shed: may be deleted here."`)
	assert.Equal(t, http.StatusNoContent, y.ask("DELETE", "/dav/a.jpg", "", nil, "Authorization", basic("toms-phone", keys.App)).StatusCode)
	assert.NotContains(t, listed(), "a.jpg")
	// Put once more, it is here once more.
	y.ask("PUT", "/dav/a.jpg", "", strings.NewReader("boat a.jpg"), "Authorization", basic("toms-phone", keys.App))
	assert.Contains(t, listed(), "a.jpg")
	assert.Equal(t, "boat a.jpg", readAll(y.ask("GET", "/dav/a.jpg", "", nil, "Authorization", basic("toms-phone", keys.App))))
}

// A phone asks by the size first, and tells the content only of what may be there.
func TestAPhoneAsksByTheSizeFirst(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	toms, ines := y.add("toms-phone"), y.add("ines-phone")
	y.patch(toms.Page, y.begin(toms.Page, 4, "filename", "a.jpg"), 0, strings.NewReader("boat"))
	ask := func(key string) string {
		return readAll(y.ask("POST", "/p/known", key, strings.NewReader(`[{"bytes": 4}, {"bytes": 5}]`)))
	}
	assert.Equal(t, `[{"sha256":"","like":true,"known":false,"may":false,"says":""},{"sha256":"","like":false,"known":false,"may":false,"says":""}]`, ask(toms.Page))
	assert.NotContains(t, ask(ines.Page), "true", "of another's nothing is told, not even a size")
	// An upload that goes on with another file under the same name is not taken for it.
	at := y.begin(toms.Page, 8, "filename", "b.jpg")
	y.patch(toms.Page, at, 0, strings.NewReader("first"))
	assert.Equal(t, http.StatusBadRequest, y.patch(toms.Page, at, 5, strings.NewReader("two"), "Upload-Content-Sha256", sum("otherone")).StatusCode)
	assert.NotContains(t, y.here("toms-phone"), "page/b.jpg")
}

// What the other devices of its person have proven at every place need not be sent; of anybody else's nothing is told.
func TestAPhoneKnowsWhatItsPersonHas(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	ask := func(key string) string {
		return readAll(y.ask("POST", "/p/known", key, strings.NewReader(`[{"sha256": "`+strings.ToUpper(sum("mine"))+`", "bytes": 4}, {"sha256": "`+sum("other")+`", "bytes": 5}]`)))
	}
	of := func(is bool, says string) string { return fmt.Sprintf(`"known":%t,"may":%t,"says":%q`, is, is, says) }
	told := ask(y.add("ines-phone").Page)
	assert.Contains(t, told, of(true, "Safe at shed, from another device of yours: may be deleted here."))
	assert.Contains(t, told, of(false, ""))
	assert.NotContains(t, ask(y.add("toms-phone").Page), "true", "it is nobody's in particular")
}

// Where there is no room it is said, in words, and nothing half stays.
func TestNoRoomIsSaid(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	require.NoError(t, y.phones.Set("toms-phone", phonewire.PhoneSet{Most: new(int64(1_000_000))}))
	a := y.ask("PUT", "/dav/large.jpg", "", strings.NewReader(content(2_000_000, 1)), "Authorization", basic("toms-phone", keys.App))
	assert.Equal(t, http.StatusInsufficientStorage, a.StatusCode)
	assert.Contains(t, readAll(a), "There is no room for 2.0 MB: the inbox of toms-phone may take 1.0 MB")
	r, w := io.Pipe() // of a length that nobody says
	go func() {
		_, _ = io.Copy(w, strings.NewReader(content(2_000_000, 1)))
		_ = w.Close()
	}()
	assert.Equal(t, http.StatusInsufficientStorage, y.ask("PUT", "/dav/large.jpg", "", r, "Authorization", basic("toms-phone", keys.App)).StatusCode)
	assert.Equal(t, http.StatusInsufficientStorage, y.ask("POST", "/p/uploads", keys.Page, nil, "Tus-Resumable", "1.0.0", "Upload-Length", "2000000",
		"Upload-Metadata", metadata("filename", "x.jpg")).StatusCode)
	assert.Empty(t, y.here("toms-phone"))
	one, _ := y.phones.Phone("toms-phone")
	m, err := one.Mine(t.Context(), 1)
	require.NoError(t, err)
	assert.EqualValues(t, 1_000_000, m.Left, "nothing is taken by what did not come")
	needs := y.phones.Needs(time.Now())
	require.Len(t, needs, 1)
	assert.Contains(t, needs[0].Says, "toms-phone could not hand something over. There is no room for 2.0 MB")
	assert.Empty(t, y.phones.Needs(time.Now().Add(2*time.Hour)))
	y.free = 1_000_500_000 // of the disk
	require.NoError(t, y.phones.Set("toms-phone", phonewire.PhoneSet{Most: new(int64(1_000_000_000))}))
	a = y.ask("PUT", "/dav/large.jpg", "", strings.NewReader(content(600_000, 1)), "Authorization", basic("toms-phone", keys.App))
	assert.Equal(t, http.StatusInsufficientStorage, a.StatusCode)
	assert.Contains(t, readAll(a), "the disk of the inbox has 1.0 GB free")
}

// A phone that lies about what it will send, and sends slowly, shuts nobody else out.
func TestAPhoneStarvesNobody(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	liar, toms := y.add("liar"), y.add("toms-phone")
	require.NoError(t, y.phones.SetNetwork(phonewire.PhoneNetwork{Most: 10_000_000}))
	begun := 0
	for range 40 { // it announces what it never sends
		a := y.ask("POST", "/p/uploads", liar.Page, nil, "Tus-Resumable", "1.0.0", "Upload-Length", "900000", "Upload-Metadata", metadata("filename", "x.jpg"))
		if a.StatusCode == http.StatusCreated {
			begun++
		} else {
			assert.Equal(t, http.StatusInsufficientStorage, a.StatusCode)
		}
	}
	assert.Equal(t, 5, begun, "half of the room is another's")
	var slow []net.Conn
	for i := range 40 { // and more calls than it may have, each of which stands still
		c, err := net.Dial("tcp", strings.TrimPrefix(y.at, "http://"))
		require.NoError(t, err)
		slow = append(slow, c)
		fmt.Fprintf(c, "PUT /dav/x%d.jpg HTTP/1.1\r\nHost: x\r\nAuthorization: %s\r\nContent-Length: 100\r\n\r\nx", i, basic("liar", liar.App))
	}
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, http.StatusTooManyRequests, y.ask("GET", "/p/mine", liar.Page, nil).StatusCode)
	is := content(4_000_000, 4)
	a := y.ask("PUT", "/dav/boat.jpg", "", strings.NewReader(is), "Authorization", basic("toms-phone", toms.App))
	assert.Equal(t, http.StatusCreated, a.StatusCode, "%s", readAll(a))
	for _, c := range slow {
		require.NoError(t, c.Close())
	}
	require.Eventually(t, func() bool { return y.ask("GET", "/p/mine", liar.Page, nil).StatusCode == http.StatusOK }, time.Minute, 50*time.Millisecond)
}

// What is far too much for a call is refused before it is read.
func TestBombsAreRefused(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	assert.Equal(t, http.StatusRequestEntityTooLarge, y.ask("POST", "/p/known", keys.Page, strings.NewReader(strings.Repeat("[", 3<<20))).StatusCode)
	assert.Equal(t, http.StatusBadRequest, y.ask("POST", "/p/known", keys.Page, strings.NewReader(strings.Repeat("[", 500_000))).StatusCode)
	asked := strings.TrimSuffix(strings.Repeat(`{"sha256":"a","bytes":1},`, 501), ",")
	assert.Equal(t, http.StatusUnprocessableEntity, y.ask("POST", "/p/known", keys.Page, strings.NewReader("["+asked+"]")).StatusCode)
	assert.GreaterOrEqual(t, y.ask("PROPFIND", "/dav/", "", strings.NewReader("<propfind>"+strings.Repeat("<a>", 200_000)), "Authorization",
		basic("toms-phone", keys.App)).StatusCode, 400)
	entities := `<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]><propfind xmlns="DAV:"><prop><x>&b;</x></prop></propfind>`
	assert.GreaterOrEqual(t, y.ask("PROPFIND", "/dav/", "", strings.NewReader(entities), "Authorization", basic("toms-phone", keys.App)).StatusCode, 400)
	assert.GreaterOrEqual(t, y.raw("GET", "/p/mine", "Authorization", "Bearer "+keys.Page, "X", strings.Repeat("x", 100_000)), 400)
	// A length that is told twice, or as a lie, is no file.
	c, err := net.Dial("tcp", strings.TrimPrefix(y.at, "http://"))
	require.NoError(t, err)
	fmt.Fprintf(c, "PUT /dav/two.jpg HTTP/1.1\r\nHost: x\r\nAuthorization: %s\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n", basic("toms-phone", keys.App))
	_ = c.SetReadDeadline(time.Now().Add(2 * time.Second))
	_, _ = io.Copy(io.Discard, c)
	require.NoError(t, c.Close())
	c, err = net.Dial("tcp", strings.TrimPrefix(y.at, "http://"))
	require.NoError(t, err)
	fmt.Fprintf(c, "PUT /dav/less.jpg HTTP/1.1\r\nHost: x\r\nAuthorization: %s\r\nContent-Length: 300\r\n\r\nabc", basic("toms-phone", keys.App))
	require.NoError(t, c.(*net.TCPConn).CloseWrite())
	_, _ = io.Copy(io.Discard, c)
	require.NoError(t, c.Close())
	assert.NotContains(t, y.here("toms-phone"), "webdav/less.jpg")
}

// What a gallery shares to the page is taken in as it comes.
func TestWhatIsSharedToThePage(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	share := func(files [][2]string, headers ...string) *http.Response {
		var b bytes.Buffer
		form := multipart.NewWriter(&b)
		for _, file := range files {
			f, err := form.CreateFormFile("files", file[0])
			require.NoError(t, err)
			_, err = io.WriteString(f, file[1])
			require.NoError(t, err)
		}
		require.NoError(t, form.WriteField("title", "x"))
		require.NoError(t, form.Close())
		return y.ask("POST", "/p/share", "", &b, append(headers, "Content-Type", form.FormDataContentType())...)
	}
	two := [][2]string{{"a.jpg", "boat a"}, {"../b.jpg", "boat b"}}
	cookie := "yard-phone=" + keys.Page
	assert.Equal(t, http.StatusUnauthorized, share(two).StatusCode)
	assert.Equal(t, http.StatusUnauthorized, share(two, "Cookie", cookie, "Sec-Fetch-Site", "cross-site").StatusCode, "by somebody else's page")
	a := share(two, "Cookie", cookie, "Sec-Fetch-Site", "none")
	assert.Equal(t, http.StatusSeeOther, a.StatusCode, "%s", readAll(a))
	assert.Equal(t, "/p/?shared=2", a.Header.Get("Location"))
	want := map[string]string{"page/a.jpg": "boat a", "page/b.jpg": "boat b"}
	assert.Equal(t, want, y.here("toms-phone"), "Go takes the last step of a name")
	assert.Equal(t, http.StatusConflict, y.ask("POST", "/p/keep", keys.Page, nil).StatusCode, "no cookie where somebody reads along")
	// Where not all of it is taken in, the page says why; what came whole is there.
	require.NoError(t, y.phones.Set("toms-phone", phonewire.PhoneSet{Most: new(int64(1_000_000))}))
	a = share([][2]string{{"c.jpg", "boat c"}, {"large.jpg", content(9_000_000, 1)}, {"d.jpg", "boat d"}}, "Cookie", cookie)
	assert.Equal(t, "/p/?shared=1&left=room", a.Header.Get("Location"), "%s", readAll(a))
	a = share([][2]string{{"..", "boat e"}}, "Cookie", cookie)
	assert.Equal(t, "/p/?shared=0&left=failed", a.Header.Get("Location"), "%s", readAll(a))
	want["page/c.jpg"] = "boat c"
	assert.Equal(t, want, y.here("toms-phone"))
}

// Whatever a kill leaves between two steps, the next start mends: nothing is half, nothing is lost or twice.
func TestWhatAKillLeavesInAnInboxIsMended(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	y.ask("PUT", "/dav/a.jpg", "", strings.NewReader("boat"), "Authorization", basic("toms-phone", keys.App))
	half := y.begin(keys.Page, 10, "filename", "half.jpg")
	y.patch(keys.Page, half, 0, strings.NewReader("12345"))
	y.stop()
	root := filepath.Join(y.dir, "inbox/toms-phone")
	id := strings.TrimPrefix(half, "/p/uploads/")
	// More bytes came than the state knows of; a file was put in place and not noted; one without state is nobody's.
	f, err := os.OpenFile(filepath.Join(root, ".parts", id), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString("xxxx")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.WriteFile(filepath.Join(root, "page/placed.jpg"), []byte("placed"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(root, ".parts/0123.new"), []byte("nobody's"), 0o600))
	y.start()
	assert.NoFileExists(t, filepath.Join(root, ".parts/0123.new"))
	assert.Equal(t, "5", y.ask("HEAD", half, keys.Page, nil, "Tus-Resumable", "1.0.0").Header.Get("Upload-Offset"))
	y.patch(keys.Page, half, 5, strings.NewReader("67890"))
	assert.Equal(t, map[string]string{"webdav/a.jpg": "boat", "page/placed.jpg": "placed", "page/half.jpg": "1234567890"}, y.here("toms-phone"))
	assert.Contains(t, readAll(y.ask("GET", "/p/mine", keys.Page, nil)), "placed.jpg")
	one, _ := y.phones.Phone("toms-phone")
	sum, err := one.Inbox.Records.Handed.Sum(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 3, sum.N)
	// Killed after it was noted as held, and before it was moved there.
	h, _, err := one.Inbox.Records.Handed.At(t.Context(), "webdav", "a.jpg")
	require.NoError(t, err)
	require.NoError(t, one.Inbox.Records.Handed.Hold(t.Context(), h.ID, "1-a.jpg", time.Now()))
	y.stop()
	y.start()
	assert.Equal(t, "boat", readAll(y.ask("GET", "/dav/a.jpg", "", nil, "Authorization", basic("toms-phone", keys.App))))
}

// Cuts at random, many phones at once, and starts anew: every file that was told as handed over is there, once and whole.
// With YARDTIDE_PHONES there are so many phones, with 100 files each.
func TestManyPhonesCutAtRandom(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	phonesOf, files := 6, 12
	if n, err := strconv.Atoi(os.Getenv("YARDTIDE_PHONES")); err == nil {
		phonesOf, files = n, 100
	}
	keys := map[string]phones.Keys{}
	for i := range phonesOf {
		name := fmt.Sprintf("phone-%d", i)
		keys[name] = y.add(name)
	}
	r := rand.New(rand.NewPCG(23, 1))
	type upload struct{ phone, name, is, at string }
	var open []upload
	for name := range keys {
		for i := range files {
			open = append(open, upload{phone: name, name: fmt.Sprintf("p%d.jpg", i), is: content(20_000+r.IntN(60_000), r.Uint64())})
		}
	}
	done := map[string]string{}
	for round := 0; len(open) > 0; round++ {
		r.Shuffle(len(open), func(i, j int) { open[i], open[j] = open[j], open[i] })
		require.Less(t, round, 2000)
		var mu sync.Mutex
		var left []upload
		var all sync.WaitGroup
		of := map[string]int{} // a phone has few calls at once
		var now []upload
		for _, u := range open {
			if of[u.phone]++; of[u.phone] <= 12 && len(now) < 72 {
				now = append(now, u)
			} else {
				left = append(left, u)
			}
		}
		for _, u := range now {
			stop := r.IntN(len(u.is) + 20_000)
			all.Go(func() {
				if u.at == "" {
					u.at = y.begin(keys[u.phone].Page, int64(len(u.is)), "filename", u.name, "sha256", sum(u.is))
				}
				a := y.ask("HEAD", u.at, keys[u.phone].Page, nil, "Tus-Resumable", "1.0.0")
				from, err := strconv.Atoi(a.Header.Get("Upload-Offset"))
				assert.NoError(t, err)
				c, err := net.Dial("tcp", strings.TrimPrefix(y.at, "http://"))
				assert.NoError(t, err)
				defer c.Close()
				_ = c.SetDeadline(time.Now().Add(20 * time.Second))
				fmt.Fprintf(c, "PATCH %s HTTP/1.1\r\nHost: x\r\nConnection: close\r\nAuthorization: Bearer %s\r\nTus-Resumable: 1.0.0\r\nContent-Type: %s\r\nUpload-Offset: %d\r\nContent-Length: %d\r\n\r\n%s",
					u.at, keys[u.phone].Page, piece, from, len(u.is)-from, u.is[from:min(len(u.is), from+stop)])
				code := 0
				if from+stop >= len(u.is) {
					_, _ = fmt.Fscanf(c, "HTTP/1.1 %d", &code) // it may be cut
				}
				mu.Lock()
				defer mu.Unlock()
				if code == http.StatusNoContent {
					done[u.phone+"/page/"+u.name] = u.is
				} else {
					left = append(left, u)
				}
			})
		}
		all.Wait()
		open = left
		if round%4 == 3 {
			y.stop()
			y.start()
		}
	}
	got := map[string]string{}
	for name := range keys {
		for file, is := range y.here(name) {
			got[name+"/"+file] = is
		}
	}
	assert.Equal(t, len(done), len(got))
	for name, is := range done {
		assert.Equal(t, sum(is), sum(got[name]), name)
	}
}
