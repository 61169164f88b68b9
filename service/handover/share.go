package handover

import (
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"yardtide/engine/inbox"
	"yardtide/wire/phonewire"
)

// This file is what a page on the home screen needs: the manifest (W3C, Web Application Manifest; Web Share Target), and
// the route to which a phone's gallery shares.

// manifest is static: it is the same for every phone.
func (s *Server) manifest(c *call) error { return s.file(c, "manifest.webmanifest") }

// knows tells what of some contents need not be sent.
func (s *Server) knows(c *call) error {
	var asked []phonewire.Content
	if err := c.readJSON(&asked); err != nil {
		return err
	}
	list, err := c.phone.Knows(c.Context(), asked)
	if err != nil {
		return err
	}
	return c.writeJSON(list)
}

// keep gives the browser the key as a cookie, for what is shared to the page: only where nobody can read along.
func (s *Server) keep(c *call) error {
	if !c.secure {
		return refusal{http.StatusConflict, "Sharing to the page needs the encrypted address."}
	}
	token := strings.TrimPrefix(c.Request.Header.Get("Authorization"), "Bearer ")
	http.SetCookie(c, &http.Cookie{Name: shareCookie, Value: token, Path: "/p/share", MaxAge: 400 * 24 * 3600, Secure: true,
		HttpOnly: true, SameSite: http.SameSiteStrictMode})
	c.WriteHeader(http.StatusNoContent)
	return nil
}

// mostShared is how much of what a gallery shares is read and left where there is no room for it: a browser hears an
// answer only once it has sent all.
const mostShared = 4 << 30

// share takes in what a phone's gallery shares to the page, as it comes, and leads to the page, which tells how many came
// and why the others did not: somebody looks at the answer, and not a program.
func (s *Server) share(c *call) error {
	n, err := s.takeShared(c)
	to := "/p/?shared=" + strconv.Itoa(n)
	var room inbox.NoRoom
	switch {
	case errors.As(err, &room):
		s.Log.Warn("a phone was told that there is no room", "device", c.name(), "says", room.Says)
		to += "&left=room"
	case err != nil && (c.body.err != nil || c.Context().Err() != nil):
		return err // nobody hears the answer
	case err != nil:
		s.Log.Warn("what a phone shared was not taken in", "device", c.name(), "err", err)
		to += "&left=failed"
	}
	_, _ = io.CopyN(io.Discard, c.body, mostShared) // nobody needs it
	c.Header().Set("Location", to)
	c.WriteHeader(http.StatusSeeOther)
	return nil
}

// takeShared takes in the files of a form until one cannot be; n came before.
func (s *Server) takeShared(c *call) (n int, err error) {
	form, err := c.MultipartReader()
	if err != nil {
		return 0, refusal{http.StatusBadRequest, "What is shared comes as multipart/form-data."}
	}
	for {
		part, err := form.NextPart()
		if errors.Is(err, io.EOF) {
			return n, nil
		}
		if err != nil {
			return n, refusal{http.StatusBadRequest, "What was shared ends in the middle; share it again. What came whole before is there."}
		}
		if part.FormName() != "files" || part.FileName() == "" {
			continue
		}
		name, err := inbox.Clean(part.FileName())
		if err != nil {
			return n, err
		}
		w, err := c.phone.Inbox.Create(-1)
		if err != nil {
			return n, err
		}
		if _, err := io.Copy(w, part); err != nil { // cut: nothing of it counts
			return n, errors.Join(err, w.Drop())
		}
		if _, err := w.Take(c.Context(), inbox.ByPage, name, time.Time{}, false); err != nil {
			return n, err
		}
		n++
	}
}
