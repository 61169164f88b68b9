package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/service"
)

// door is a served service with nothing in it.
type door struct {
	t       *testing.T
	server  *Server
	service *service.Service
	address string
	conn    net.Conn
	answers *bufio.Reader
}

func newDoor(t *testing.T) *door {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	s, err := service.Open(t.Context(), service.Options{Dir: t.TempDir(), Log: log})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	page := fstest.MapFS{"index.html": {Data: []byte("the page")}, "assets/a.js": {Data: []byte("1")},
		"mark.svg": {Data: []byte("<svg/>")}, ".hidden": {Data: []byte("x")}}
	d := &door{t: t, server: New(s, page, log), service: s}
	l, err := Listen("127.0.0.1:0")
	require.NoError(t, err)
	d.address = l.Addr().String()
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- d.server.Serve(ctx, l) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-ended)
		if d.conn != nil {
			assert.NoError(t, d.conn.Close())
		}
	})
	return d
}

func (d *door) token() string {
	d.t.Helper()
	text, err := os.ReadFile(filepath.Join(d.service.Dir, "token"))
	require.NoError(d.t, err)
	return strings.TrimSpace(string(text))
}

// ask sends a request as it is spelled, and returns the code and the body.
func (d *door) ask(method, target, headers, body string) (int, string) {
	d.t.Helper()
	text := method + " " + target + " HTTP/1.1\r\n" + headers
	if !strings.Contains(headers, "Host:") {
		text += "Host: " + d.address + "\r\n"
	}
	if body != "" && !strings.Contains(headers, "Content-Length:") && !strings.Contains(headers, "Transfer-Encoding:") {
		text += fmt.Sprintf("Content-Length: %d\r\n", len(body))
	}
	text += "\r\n" + body
	for try := 0; ; try++ {
		if d.conn == nil {
			var err error
			d.conn, err = net.Dial("tcp", d.address)
			require.NoError(d.t, err)
			d.answers = bufio.NewReader(d.conn)
		}
		_, werr := io.WriteString(d.conn, text)
		res, err := http.ReadResponse(d.answers, &http.Request{Method: method})
		if err != nil || werr != nil { // the connection ended with the answer before
			require.NoError(d.t, d.conn.Close())
			d.conn = nil
			require.Less(d.t, try, 2, "%s %s: %v %v", method, target, werr, err)
			continue
		}
		answer, err := io.ReadAll(res.Body)
		require.NoError(d.t, err)
		if res.Close {
			require.NoError(d.t, d.conn.Close())
			d.conn = nil
		}
		return res.StatusCode, string(answer)
	}
}

// spellings of one path: whoever compares text with what a router compares
// loosely lets one of them in.
func spellings(p string) []string {
	letter := strings.IndexFunc(p, func(r rune) bool { return r >= 'a' && r <= 'z' })
	escaped, turned := p, p
	if letter >= 0 {
		escaped = fmt.Sprintf("%s%%%02x%s", p[:letter], p[letter], p[letter+1:])
		turned = p[:letter] + strings.ToUpper(p[letter:letter+1]) + p[letter+1:]
	}
	return []string{
		p, strings.ToUpper(p), turned, escaped, "/" + p, strings.Replace(p, "/", "/./", 1), "/x/.." + p, p + "/", p +
			";x", p + "?token=x", p + "%00", p + "%2f",
		strings.Replace(p, "/", "/%2e/", 1), strings.ReplaceAll(p, "s", "ſ"), strings.Replace(p, "/", "\\",
			2), "http://evil.example" + p, strings.ReplaceAll(p, "i", "ı"),
	}
}

func TestNobodyButTheKeeperGetsInHoweverItIsSpelled(t *testing.T) {
	d := newDoor(t)
	paths := map[string]bool{"/": true, "/api": true, "/api/v1": true, "/.hidden": true, "/index.html": true,
		"/assets": true}
	opened := map[string]bool{}
	for _, r := range d.server.app.GetRoutes(true) {
		p := strings.NewReplacer(":device", "phone", ":id", "1", ":name", "locker", "/*", "/else").Replace(r.Path)
		paths[p] = true
		if len(r.Handlers) == 2 {
			opened[r.Method+" "+p] = true
		}
	}
	var document struct{ Paths map[string]any }
	text, err := d.server.OpenAPI()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &document))
	require.Greater(t, len(document.Paths), 20)
	for p := range document.Paths {
		paths[strings.NewReplacer("{device}", "phone", "{id}", "1", "{name}", "locker").Replace(p)] = true
	}
	cookie := "Cookie: yardtide=" + d.service.Keys.Cookie() + "\r\n"
	strangers := map[string]string{
		"no token": "", "a wrong token": "Authorization: Bearer wrong\r\n", "an empty token": "Authorization: Bearer \r\n",
		"another scheme": "Authorization: Basic " + d.token() + "\r\n",
		"a wrong cookie": "Cookie: yardtide=wrong\r\n", "a foreign page": cookie +
			"Origin: http://evil.example\r\nSec-Fetch-Site: cross-site\r\n",
		"a page beside": cookie + "Sec-Fetch-Site: same-site\r\n", "no origin at all": cookie + "Origin: null\r\n",
		"a wrong host": "Host: evil.example\r\nAuthorization: Bearer " + d.token() + "\r\n",
	}
	n := 0
	for p := range paths {
		for _, target := range spellings(p) {
			for who, headers := range strangers {
				for _, method := range []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"} {
					if opened[method+" "+target] {
						continue
					}
					n++
					code, body := d.ask(method, target, headers, "")
					// another spelling of what is open to all
					if opened[method+" "+canonical(target)] && (code == 200 || code == 400) {
						continue
					}
					if strings.HasPrefix(target, "\\") && code == 400 { // no path at all
						continue
					}
					require.Contains(t, []int{401, 403, 404, 405}, code, "%s %s by %s: %s", method, target, who, body)
				}
			}
		}
	}
	t.Logf("%d requests", n)
	assert.Equal(t, map[string]bool{"GET /": true, "GET /queue": true, "GET /plan": true, "GET /destinations": true,
		"GET /devices": true, "GET /room": true, "GET /library": true, "GET /setup": true, "GET /mark.svg": true, "GET /assets/a.js": true,
		"GET /open": true, "GET /open.js": true, "POST /open": true}, opened, "what is open is this list")
	code, _ := d.ask("GET", "/api/v1/status", "Authorization: Bearer "+d.token()+"\r\n", "")
	assert.Equal(t, 200, code, "and the keeper does get in")
}

// canonical is the path of a target without its query, as a browser asks for it.
func canonical(target string) string {
	u, err := url.Parse(target)
	if err != nil {
		return target
	}
	return u.Path
}

func TestAChangeByCookieNeedsAPageOfOurs(t *testing.T) {
	d := newDoor(t)
	cookie := "Cookie: yardtide=" + d.service.Keys.Cookie() + "\r\n"
	bearer := "Authorization: Bearer " + d.token() + "\r\n"
	own, isJSON := "Origin: http://"+d.address+"\r\n", "Content-Type: application/json\r\n"
	for _, c := range []struct {
		who, headers, body string
		code               int
	}{
		{"our page", cookie + own + "Sec-Fetch-Site: same-origin\r\n" + isJSON, "{}", 200},
		{"our page in an older browser", cookie + own + isJSON, "{}", 200},
		{"the command line", bearer + isJSON, "{}", 200},
		{"no type", cookie + own, "{}", 415},
		{"no type and no body", cookie + own, "", 415},
		{"a form", cookie + own + "Content-Type: text/plain\r\n", "{}", 415},
		{"nearly JSON", cookie + own + "Content-Type: application/jsonx\r\n", "{}", 415},
		{"nobody's word for it", cookie + isJSON, "{}", 403},
		{"typed into the address bar", cookie + "Sec-Fetch-Site: none\r\n" + isJSON, "{}", 403},
		{"another port of this machine", cookie + "Origin: http://127.0.0.1:1\r\nSec-Fetch-Site: same-site\r\n" + isJSON,
			"{}", 403},
		{"its origin hidden", cookie + "Origin: null\r\n" + isJSON, "{}", 403},
		{"two stories", cookie + "Origin: http://evil.example\r\nSec-Fetch-Site: same-origin\r\n" + isJSON, "{}", 403},
		{"the command line without a type", bearer, "{}", 415},
	} {
		code, body := d.ask("POST", "/api/v1/resume", c.headers, c.body)
		assert.Equal(t, c.code, code, "%s: %s", c.who, body)
	}
}

func TestALinkIsUsedUpByThePersonWhoOpensIt(t *testing.T) {
	d := newDoor(t)
	code := d.service.Keys.NewLink(time.Now())
	for _, method := range []string{"HEAD", "GET", "OPTIONS", "GET"} {
		_, body := d.ask(method, "/open?code="+code, "", "")
		assert.NotContains(t, body, code)
	}
	answer, _ := d.ask("POST", "/open", "Content-Type: application/json\r\nOrigin: http://evil.example\r\n",
		`{"code":"`+code+`"}`)
	assert.Equal(t, 403, answer)
	answer, _ = d.ask("POST", "/open", "Content-Type: text/plain\r\n", `{"code":"`+code+`"}`)
	assert.Equal(t, 400, answer)
	answer, _ = d.ask("POST", "/open", "Content-Type: application/json\r\n", `{"code":"`+code+`"}`)
	assert.Equal(t, 204, answer, "none of that used it up")
	answer, _ = d.ask("POST", "/open", "Content-Type: application/json\r\n", `{"code":"`+code+`"}`)
	assert.Equal(t, 403, answer, "and this did")
}

func TestWhatCanBeReadInTwoWaysIsRefused(t *testing.T) {
	d := newDoor(t)
	bearer := "Authorization: Bearer " + d.token() + "\r\nContent-Type: application/json\r\n"
	smuggled := "2\r\n{}\r\n0\r\n\r\nGET /api/v1/status HTTP/1.1\r\nHost: x\r\n\r\n"
	for _, headers := range []string{"Content-Length: 4\r\nTransfer-Encoding: chunked\r\n",
		"Transfer-Encoding: chunked\r\ncontent-length: 4\r\n", "Transfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n",
		"Content-Length: 4\r\nContent-Length: 5\r\n", "Transfer-Encoding: identity\r\n",
		"Transfer-Encoding: gzip, chunked\r\n", "Content-Length: -1\r\n", "Content-Length: 0x2\r\n"} {
		code, body := d.ask("POST", "/api/v1/resume", bearer+headers, smuggled)
		assert.Equal(t, 400, code, "%q: %s", headers, body)
		if d.conn != nil {
			if second, err := http.ReadResponse(d.answers, nil); err == nil {
				assert.Equal(t, 400, second.StatusCode, "%q: what stands in the body is not answered", headers)
			}
			require.NoError(t, d.conn.Close())
			d.conn = nil
		}
	}
	code, _ := d.ask("POST", "/api/v1/resume", bearer+"Transfer-Encoding: chunked\r\n", "2\r\n{}\r\n0\r\n\r\n")
	assert.Equal(t, 200, code, "chunks alone are taken")
}

func TestNoAnswerRepeatsASecret(t *testing.T) {
	d := newDoor(t)
	const canary = "c4n4ry-0123456789"
	bearer := "Authorization: Bearer " + d.token() + "\r\nContent-Type: application/json\r\n"
	long := strings.Repeat("x", 9000)
	for _, c := range []struct{ method, target, headers, body string }{
		{"GET", "/api/v1/status", "Authorization: Bearer " + canary + "\r\nBad Header\r\n", ""},
		{"GET", "/api/v1/status", "Cookie: yardtide=" + canary + "\r\nX-\x01: y\r\n", ""},
		{"GET", "/api/v1/status", "Cookie: yardtide=" + canary + "\r\nX: " + long + "\r\n", ""},
		{"GET", "/api/v1/status", "Authorization: Bearer " + canary + "\x00\r\n", ""},
		{"GET", "/open?code=" + canary, "", ""},
		{"POST", "/open", "Content-Type: application/json\r\n", `{"code":"` + canary + `"}`},
		{"POST", "/open", "Content-Type: application/json\r\n", `{"code":"` + canary},
		{"POST", "/api/v1/destinations/try", bearer,
			`{"name":"x","destination":{"kind":"webdav","url":"http://127.0.0.1:1/"},"password":["` + canary + `"]}`},
		{"POST", "/api/v1/destinations/try", bearer,
			`{"name":"x","destination":{"kind":"webdav","url":"http://127.0.0.1:1/"},"passwort":"` + canary + `"}`},
		{"POST", "/api/v1/destinations/try", bearer,
			`{"name":"x","destination":{"kind":"webdav","url":"http://127.0.0.1:1/","password-from":"` + canary + `"}}`},
		{"POST", "/api/v1/destinations/try", bearer,
			`{"name":"x","destination":{"kind":"sftp","address":"127.0.0.1:1"},"key":"` + canary + `"}`},
		{"POST", "/api/v1/destinations", bearer, `{"name":"x","destination":{"kind":"webdav","url":"http://me:` + canary +
			`@127.0.0.1:1/"},"password":"` + canary + `"}`},
		{"POST", "/api/v1/destinations", bearer,
			`{"name":"x","destination":{"kind":"sftp","address":"127.0.0.1:1","user":"u"},"key":"` + canary + `"}`},
		{"POST", "/api/v1/destinations/browse", bearer,
			`{"name":"x","destination":{"kind":"webdav","url":"http://127.0.0.1:1/","user":"u"},"folder":"","password":"` +
				canary + `"}`},
		{"PUT", "/api/v1/plan", bearer, `{"text":"yard: x\ndestinations:\n  a: {kind: webdav, url: 'http://u:` + canary +
			`@h/', password: ` + canary + `, password-from: ` + canary + `}\n"}`},
		{"PUT", "/api/v1/plan", bearer, `{"text":` + `"` + canary},
	} {
		_, body := d.ask(c.method, c.target, c.headers, c.body)
		assert.NotContains(t, body, canary, "%s %s %s", c.method, c.target, c.body)
	}
}

// Whatever is asked, with whatever body, is answered and is no fault of ours.
func FuzzRequest(f *testing.F) {
	for _, c := range [][3]string{
		{"GET", "/api/v1/items?after=bnVsbA&limit=5", ""}, {"GET", "/api/v1/items?after=e30", ""}, {"GET",
			"/api/v1/find?text=a", ""}, {"GET", "/api/v1/items/phone/x-1", ""},
		{"POST", "/api/v1/pause", `{"device":"x","until":"2030-01-01T00:00:00Z"}`}, {"POST", "/api/v1/retry",
			`{"device":"x","items":["x-1"]}`},
		{"POST", "/api/v1/plan/check", `{"text":"yard: x"}`}, {"PUT", "/api/v1/plan", `{"text":"a: [","base":0}`},
		{"POST", "/api/v1/prove", `{"sample":1}`}, {"POST", "/open", `{"code":"x"}`}, {"DELETE", "/api/v1/destinations/x",
			""}, {"POST", "/api/v1/destinations/x/place", `{"is":"moved"}`},
	} {
		f.Add(c[0], c[1], c[2])
	}
	s, err := service.Open(context.Background(), service.Options{Dir: f.TempDir(), Log: slog.New(slog.DiscardHandler)})
	require.NoError(f, err)
	f.Cleanup(func() { assert.NoError(f, s.Close()) })
	server := New(s, fstest.MapFS{"index.html": {Data: []byte("the page")}}, slog.New(slog.DiscardHandler))
	token, err := os.ReadFile(filepath.Join(s.Dir, "token"))
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, method, target, body string) {
		if strings.Contains(target, "destinations/try") || strings.Contains(target, "destinations/browse") ||
			strings.Contains(target, "/events") {
			return // they reach out, or never end
		}
		req, err := http.NewRequest(method, "http://127.0.0.1/", strings.NewReader(body))
		if err != nil {
			return
		}
		u, err := url.ParseRequestURI(target)
		if err != nil {
			return
		}
		req.URL, req.Host = u, "127.0.0.1"
		req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
		req.Header.Set("Content-Type", "application/json")
		res, err := server.app.Test(req, fiber.TestConfig{Timeout: 10 * time.Second})
		if err != nil {
			return // no request at all
		}
		if res.StatusCode != http.StatusNotImplemented { // for a method that there is none of
			require.Less(t, res.StatusCode, 500, "%s %s %q", method, target, body)
		}
		require.NoError(t, res.Body.Close())
	})
}
