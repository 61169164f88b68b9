package api

import (
	"bytes"
	"errors"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"yardtide/service/caller"
)

// This file decides who gets in. A route is shut to everybody but the keeper
// unless it is registered as open: what is asked for, and how it is spelled,
// does not matter.

// access is who may call a route; the zero value shuts it.
type access int

const (
	keeperOnly access = iota // needs the token, or the cookie of a page of ours
	open                     // answers everybody: the page, its assets, the one-time link
)

// route registers a handler. It is the only way in.
func (s *Server) route(method, path string, a access, handler fiber.Handler) {
	if a == open {
		s.app.Add([]string{method}, path, byOurName, handler)
		return
	}
	s.app.Add([]string{method}, path, byOurName, s.keeper, handler)
}

// refusal is an answer that is not success, in words of ours.
type refusal struct {
	code int
	says string
}

func (r refusal) Error() string { return r.says }

const cookieName = "yardtide"

// csp lets the console use what this service serves and nothing else.
const csp = "default-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'"

// front is before every answer, also of what could not be read: it sets headers.
func front(c fiber.Ctx) error {
	c.Set("Content-Security-Policy", csp)
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Cache-Control", "no-store")
	return c.Next()
}

// byOurName refuses what came by a name of somebody else's, or can be read in
// two ways.
func byOurName(c fiber.Ctx) error {
	host := c.Host()
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	if !loopback(host) {
		return refusal{http.StatusForbidden, "The service is reached by a loopback name only."}
	}
	if twoLengths(c) {
		c.RequestCtx().SetConnectionClose() // what follows may not be a request
		return refusal{http.StatusBadRequest, "The request tells its length in two ways (RFC 9112, 6.3); send " +
			"Content-Length or Transfer-Encoding."}
	}
	return c.Next()
}

// twoLengths tells whether a request has a Content-Length beside chunks.
func twoLengths(c fiber.Ctx) bool {
	h := &c.Request().Header
	if h.ContentLength() != -1 { // of chunks
		return false
	}
	for line := range bytes.Lines(h.RawHeaders()) {
		if name, _, found := bytes.Cut(line, []byte(":")); found &&
			bytes.EqualFold(bytes.TrimSpace(name), []byte("Content-Length")) {
			return true
		}
	}
	return false
}

// keeper lets only the keeper in: with the token in a header, or with the
// cookie from a page of ours. A change of state by cookie needs the browser's
// word that a page of ours asks, and a body's type that no form can send.
func (s *Server) keeper(c fiber.Ctx) error {
	bearer, found := strings.CutPrefix(c.Get("Authorization"), "Bearer ")
	changes := c.Method() != http.MethodGet && c.Method() != http.MethodHead
	isJSON := c.Get("Content-Type") == "application/json" || strings.HasPrefix(c.Get("Content-Type"), "application/json;")
	switch {
	case found && s.service.Keys.Authorized(bearer):
		c.SetContext(caller.AtTheMachine(c.Context()))
	case !found && c.Cookies(cookieName) != "" && s.service.Keys.IsCookie(c.Cookies(cookieName)):
		site, origin := c.Get("Sec-Fetch-Site"), c.Get("Origin")
		own := site == "same-origin" && (origin == "" || origin == ownOrigin(c)) || site == "" && origin == ownOrigin(c)
		foreign := site != "" && site != "same-origin" && site != "none" || origin != "" && origin != ownOrigin(c)
		if foreign || changes && !own {
			return refusal{http.StatusForbidden, "Another site may not call this service."}
		}
		if changes && !isJSON {
			return refusal{http.StatusUnsupportedMediaType,
				"A browser's call that changes something has the Content-Type application/json."}
		}
	default:
		return refusal{http.StatusUnauthorized, "The token is missing or wrong."}
	}
	if changes && !isJSON && len(c.Request().Body()) > 0 {
		return refusal{http.StatusUnsupportedMediaType, "A body here has the Content-Type application/json."}
	}
	return c.Next()
}

func ownOrigin(c fiber.Ctx) string { return "http://" + c.Host() }

// openPage trades a one-time link's code for the cookie by a script: what looks
// at links before they are opened runs none, and does not use the link up.
const openPage = `<!doctype html><html lang="en"><meta charset="utf-8"><link rel="icon" href="/mark.svg" type="image/svg+xml"><title>Yard Tide</title>
<main><p id="opening">Opening the console…</p><div id="used" hidden><h1>This link was used already, or is too old</h1><p>Print a new one with <code>yardtide link</code>.</p></div></main>
<noscript>The console needs JavaScript. The same is told in a terminal by yardtide status.</noscript><script src="/open.js"></script></html>`

const openScript = `fetch("/open", {
  method: "POST",
  headers: { "Content-Type": "application/json" },
  body: JSON.stringify({ code: new URLSearchParams(location.search).get("code") ?? "" }),
}).then((answer) => {
  if (answer.ok) {
    location.replace("/");
    return;
  }
  document.getElementById("opening").hidden = true;
  document.getElementById("used").hidden = false;
});
`

// openRoutes are those of the one-time link.
func (s *Server) openRoutes() {
	s.route(http.MethodGet, "/open", open, func(c fiber.Ctx) error {
		c.Set("Content-Type", "text/html; charset=utf-8")
		return c.SendString(openPage)
	})
	s.route(http.MethodGet, "/open.js", open, func(c fiber.Ctx) error {
		c.Set("Content-Type", "text/javascript; charset=utf-8")
		return c.SendString(openScript)
	})
	s.route(http.MethodPost, "/open", open, s.useLink)
}

// useLink trades the code of a one-time link for the cookie.
func (s *Server) useLink(c fiber.Ctx) error {
	if origin := c.Get("Origin"); origin != "" && origin != ownOrigin(c) {
		return refusal{http.StatusForbidden, "Another site may not call this service."}
	}
	var asked struct {
		Code string `json:"code"`
	}
	if c.Get("Content-Type") != "application/json" || c.Bind().JSON(&asked) != nil {
		return refusal{http.StatusBadRequest, "A link is opened in a browser."}
	}
	if !s.service.Keys.UseLink(asked.Code, time.Now()) {
		return refusal{http.StatusForbidden, "This link was used already, or is too old. Print a new one with: yardtide link"}
	}
	c.Cookie(&fiber.Cookie{Name: cookieName, Value: s.service.Keys.Cookie(), Path: "/", HTTPOnly: true,
		SameSite: fiber.CookieSameSiteStrictMode, MaxAge: 180 * 24 * 3600})
	return c.SendStatus(http.StatusNoContent)
}

// failure is the code and the words for an error. Words that are not ours may
// hold a part of the request, and with it a token: they are not repeated.
func failure(err error) (code int, says string) {
	var own refusal
	var framework *fiber.Error
	switch {
	case errors.As(err, &own):
		return own.code, own.says
	case errors.As(err, &framework):
		code = framework.Code
		if code >= http.StatusInternalServerError { // what the framework calls a bad gateway is a request that is none
			code = http.StatusBadRequest
		}
		return code, "The request cannot be read: " + strings.ToLower(http.StatusText(code)) + "."
	}
	return http.StatusInternalServerError, "A fault of the service's; its log says more."
}
