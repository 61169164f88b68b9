package e2e

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// A whole run with a secret in every place that one can have: no answer, no log
// line, no error and no file of the plan holds any of them.
func TestNoSecretIsEverRepeated(t *testing.T) {
	t.Parallel()
	const password, mistaken = "p4ss-canary-7f3a", "m1staken-canary-9c"
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	key := string(pem.EncodeToMemory(block))
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/key", []byte(key), 0o600))
	refuses := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("WWW-Authenticate", `Basic realm="yard"`)
		w.WriteHeader(http.StatusUnauthorized)
		_, _ = w.Write([]byte("you sent " + r.Header.Get("Authorization"))) // a storage that repeats it
	}))
	t.Cleanup(refuses.Close)
	s := desk(t, dir, dir+"/data")
	pictures(t, dir, "a", 2)
	var all strings.Builder
	run := func(args ...string) {
		out, errOut, _ := s.run(args...)
		all.WriteString(out + errOut)
	}
	ask := func(method, path, body string, headers map[string]string) {
		_, answer := s.call(method, path, body, headers)
		all.WriteString(answer)
	}
	bearer := map[string]string{"Authorization": "Bearer " + s.token()}
	draft := func(name, more string) string {
		return `{"name":"` + name + `","destination":{"kind":"webdav","url":"` + refuses.URL + `/dav/","user":"me"` + more
	}
	ask("POST", "/api/v1/destinations", draft("locker", `},"password":"`+password+`"}`), bearer)
	ask("POST", "/api/v1/destinations/try", draft("other", `},"password":"`+password+`"}`), bearer)
	ask("POST", "/api/v1/destinations/browse", draft("other", `},"folder":"","password":"`+password+`"}`), bearer)
	ask("POST", "/api/v1/destinations/try", draft("other", `,"password-from":"`+mistaken+`"}}`), bearer)
	ask("POST", "/api/v1/destinations", draft("other", `,"password":"`+mistaken+`"}}`), bearer)
	ask("PUT", "/api/v1/plan", `{"base":2,"text":"destinations:\n  a: {kind: webdav, url: 'http://u:`+mistaken+
		`@h/', password: `+mistaken+`}\n"}`, bearer)
	run("destination", "add", "shed", "-kind", "sftp", "-address", "127.0.0.1:1", "-user", "me", "-key-file", dir+"/key",
		"-trust", "SHA256:uNiVztksCsDhcc0u9e8BrrJlSV9OrFmvkHZtEEn2b3c")
	run("destination", "secret", "locker", "-key-file", dir+"/key")
	for _, args := range [][]string{{"destination", "test", "locker"}, {"destination", "show", "locker", "-json"},
		{"destination", "list"}, {"plan", "show"}, {"status", "-json"}, {"queue", "-json"}, {"why", "a-000.jpg"},
		{"status", "-token", mistaken}, {"status", "-url", "http://me:" + mistaken + "@127.0.0.1:1/"}, {"plan", "check",
			dir + "/key"}} {
		run(args...)
	}
	u, err := url.Parse(s.link)
	require.NoError(t, err)
	code := u.Query().Get("code")
	ask("GET", u.RequestURI(), "", nil)
	ask("POST", "/open", `{"code":"`+code, nil)
	ask("POST", "/open", `{"code":["`+code+`"]}`, nil)
	res, err := http.Post(s.url+"/open", "application/json", strings.NewReader(`{"code":"`+code+`"}`))
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	cookie := res.Cookies()[0].Value
	ask("POST", "/open", `{"code":"`+code+`"}`, nil)
	for _, headers := range []map[string]string{bearer, {"Cookie": "yardtide=" + cookie},
		{"Cookie": "yardtide=" + cookie, "Origin": "http://evil.example"}, {"Cookie": "yardtide=" + cookie,
			"Authorization": "Bearer " + mistaken}} {
		for _, path := range []string{"/api/v1/status", "/api/v1/nothing", "/api/v1/items?after=x",
			"/api/v1/destinations/locker", "/api/v1/openapi.json", "/nothing"} {
			ask("GET", path, "", headers)
			ask("POST", path, "{", headers)
		}
	}
	s.stop()
	all.WriteString(s.log.String() + strings.Join(s.lines, "\n"))
	said := strings.ReplaceAll(all.String(), s.link, "") // which is printed to be opened
	secrets := map[string]string{"the token": s.token(), "the cookie": cookie, "the code": code, "the password": password,
		"what was mistaken for one": mistaken}
	for i, line := range strings.Split(strings.TrimSpace(key), "\n") {
		if !strings.HasPrefix(line, "-----") {
			secrets["the key, line "+string(rune('0'+i))] = line
		}
	}
	for what, secret := range secrets {
		assert.NotContains(t, said, secret, "%s was repeated", what)
	}
	plans, err := os.ReadDir(dir + "/data/plans")
	require.NoError(t, err)
	for _, p := range plans {
		text, err := os.ReadFile(dir + "/data/plans/" + p.Name())
		require.NoError(t, err)
		for what, secret := range secrets {
			assert.NotContains(t, string(text), secret, what)
		}
	}
}
