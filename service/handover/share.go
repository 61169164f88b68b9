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

// share takes in what a phone's gallery shares to the page, as it comes, and leads to the page.
func (s *Server) share(c *call) error {
	form, err := c.MultipartReader()
	if err != nil {
		return refusal{http.StatusBadRequest, "What is shared comes as multipart/form-data."}
	}
	n := 0
	for {
		part, err := form.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return refusal{http.StatusBadRequest, "What was shared ends in the middle; share it again. What came whole before is there."}
		}
		if part.FormName() != "files" || part.FileName() == "" {
			continue
		}
		name, err := inbox.Clean(part.FileName())
		if err != nil {
			return err
		}
		w, err := c.phone.Inbox.Create(-1)
		if err != nil {
			return err
		}
		if _, err := io.Copy(w, part); err != nil { // cut: nothing of it counts
			return errors.Join(err, w.Drop())
		}
		if _, err := w.Take(c.Context(), inbox.ByPage, name, time.Time{}, false); err != nil {
			return err
		}
		n++
	}
	c.Header().Set("Location", "/p/?shared="+strconv.Itoa(n))
	c.WriteHeader(http.StatusSeeOther)
	return nil
}
