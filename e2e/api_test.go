package e2e

import (
	"bufio"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/client"
	"yardtide/wire"
)

// call makes a plain request and returns the answer's code and body.
func (s *service) call(method, path, body string, headers map[string]string) (int, string) {
	s.t.Helper()
	req, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
	require.NoError(s.t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for k, v := range headers {
		req.Header.Set(k, v)
		if k == "Host" {
			req.Host = v
		}
	}
	plain := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := plain.Do(req)
	require.NoError(s.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(s.t, err)
	return res.StatusCode, string(text)
}

func TestOnlyTheKeeperGetsIn(t *testing.T) {
	t.Parallel()
	s := demo(t, t.TempDir(), "-clips=false")
	bearer := map[string]string{"Authorization": "Bearer " + s.token()}
	for _, path := range []string{"/api/v1/status", "/api/v1/items", "/api/v1/plan", "/api/v1/events",
		"/api/v1/openapi.json", "/api/nothing"} {
		code, body := s.call("GET", path, "", nil)
		assert.Equal(t, 401, code, path)
		assert.Contains(t, body, "The token is missing or wrong.", path)
		code, _ = s.call("GET", path, "", map[string]string{"Authorization": "Bearer wrong"})
		assert.Equal(t, 401, code, path)
	}
	code, _ := s.call("GET", "/api/v1/status", "", bearer)
	assert.Equal(t, 200, code)
	code, body := s.call("GET", "/api/v1/status", "", map[string]string{"Authorization": bearer["Authorization"],
		"Host": "yard.example"})
	assert.Equal(t, 403, code, "a name of somebody else's that leads here")
	assert.Contains(t, body, "loopback name only")

	u, err := url.Parse(s.link)
	require.NoError(t, err)
	code, page := s.call("GET", u.RequestURI(), "", nil)
	assert.Equal(t, 200, code, "what only looks at a link does not use it up")
	assert.Contains(t, page, "/open.js")
	ask := `{"code":"` + u.Query().Get("code") + `"}`
	res, err := http.Post(s.url+"/open", "application/json", strings.NewReader(ask))
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Len(t, res.Cookies(), 1)
	cookie := res.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	assert.Contains(t, res.Header.Get("Content-Security-Policy"), "default-src 'self'")
	code, body = s.call("POST", "/open", ask, nil)
	assert.Equal(t, 403, code, "a one-time link is good once")
	assert.Contains(t, body, "yardtide link")
	withCookie := map[string]string{"Cookie": cookie.Name + "=" + cookie.Value}
	code, _ = s.call("GET", "/api/v1/status", "", withCookie)
	assert.Equal(t, 200, code)
	withCookie["Origin"] = "http://evil.example"
	code, _ = s.call("POST", "/api/v1/pause", "{}", withCookie)
	assert.Equal(t, 403, code, "another site may not call")
	assert.NotContains(t, cookie.Value, s.token())
}

func TestBadCallsGetProblemDocuments(t *testing.T) {
	t.Parallel()
	s := demo(t, t.TempDir(), "-clips=false")
	bearer := map[string]string{"Authorization": "Bearer " + s.token()}
	for _, c := range []struct {
		method, path, body string
		code               int
		says               string
	}{
		{"GET", "/api/v1/nothing", "", 404, "There is no such call."},
		{"GET", "/api/v1/items?state=lost", "", 422, "query.state"},
		{"GET", "/api/v1/items?limit=9999", "", 422, "query.limit"},
		{"GET", "/api/v1/items?after=%21", "", 422, "This is not a cursor of this API."},
		{"GET", "/api/v1/items?device=nobody", "", 404,
			`There is no device \"nobody\" here; there is galley-phone, chart-table.`},
		{"GET", "/api/v1/items/galley-phone/999999", "", 404, "There is no item \\\"999999\\\" here"},
		{"GET", "/api/v1/items/galley-phone/%20", "", 404, "There is no item"},
		{"GET", "/api/v1/find?text=", "", 422, "query.text"},
		{"POST", "/api/v1/pause", `{"until":"2001-01-01T00:00:00Z"}`, 422, "lies in the past"},
		{"POST", "/api/v1/pause", `{"untill":"x"}`, 422, "unexpected property"},
		{"POST", "/api/v1/pause", `{`, 400, "unexpected end of JSON input"},
		{"POST", "/api/v1/retry", `{"items":["x-1"]}`, 422, "name that too"},
		{"POST", "/api/v1/send-now", `{"device":"galley-phone","items":[]}`, 422, "body.items"},
		{"PUT", "/api/v1/plan", `{"text":"yard: x","base":1}`, 422, "plan.yaml:1:5"},
		{"PUT", "/api/v1/standin/phones/nobody",
			`{"network":"wifi","metered":"no","roaming":"no","charging":"yes","battery":5,"use":"idle"}`, 422,
			"there is no simulated device"},
		{"PUT", "/api/v1/standin/phones/galley-phone",
			`{"network":"pigeon","metered":"no","roaming":"no","charging":"yes","battery":500,"use":"idle"}`, 422,
			"body.battery"},
	} {
		code, body := s.call(c.method, c.path, c.body, bearer)
		assert.Equal(t, c.code, code, "%s %s: %s", c.method, c.path, body)
		assert.Contains(t, body, c.says, "%s %s", c.method, c.path)
		var p client.Problem
		require.NoError(t, json.Unmarshal([]byte(body), &p), body)
		assert.Equal(t, c.code, p.Status)
		assert.NotEmpty(t, p.Title)
	}
}

func TestTheEventStreamTellsChanges(t *testing.T) {
	t.Parallel()
	s := demo(t, t.TempDir(), "-clips=false")
	s.phone(offline)
	req, err := http.NewRequestWithContext(t.Context(), "GET", s.url+"/api/v1/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+s.token())
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	changed := false
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var y wire.Yard
		require.NoError(t, json.Unmarshal([]byte(data), &y))
		if y.Devices[0].Conditions.Battery == 33 {
			return
		}
		if !changed {
			changed = true
			low := offline
			low.Battery = 33
			s.phone(low)
		}
	}
	require.Fail(t, "the stream ended", "%v", lines.Err())
}

func TestTheDocumentIsWhatIsServed(t *testing.T) {
	t.Parallel()
	s := demo(t, t.TempDir(), "-clips=false")
	code, body := s.call("GET", "/api/v1/openapi.json", "", map[string]string{"Authorization": "Bearer " + s.token()})
	require.Equal(t, 200, code)
	var doc struct {
		OpenAPI string                    `json:"openapi"`
		Paths   map[string]map[string]any `json:"paths"`
	}
	require.NoError(t, json.Unmarshal([]byte(body), &doc))
	assert.True(t, strings.HasPrefix(doc.OpenAPI, "3.1"))
	for _, path := range []string{"/api/v1/status", "/api/v1/items", "/api/v1/plan", "/api/v1/send-now",
		"/api/v1/events"} {
		assert.Contains(t, doc.Paths, path)
	}
}
