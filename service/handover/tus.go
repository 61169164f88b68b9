package handover

import (
	"crypto/sha1" //nolint:gosec // the protocol's; what counts is SHA-256
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"yardtide/engine/inbox"
)

// This file speaks tus 1.0.0 (tus.io/protocols/resumable-upload), with creation, creation-with-upload, termination,
// checksum and expiration.

const (
	tusVersion    = "1.0.0"
	tusExtensions = "creation,creation-with-upload,termination,checksum,expiration"
	tusChecksums  = "sha1,sha256"
	pieceType     = "application/offset+octet-stream"
	mostUpload    = int64(1) << 43 // bytes: 8 TiB
	// contentHeader tells the SHA-256 of the whole file, in hex, of an upload that goes on: another file may have been
	// picked under its name.
	contentHeader = "Upload-Content-Sha256"
	// statusChecksum is the protocol's own.
	statusChecksum = 460
)

// tus sees to what every call of the protocol has; done where it is answered.
func (c *call) tus() (done bool, err error) {
	if to := c.Request.Header.Get("X-HTTP-Method-Override"); c.Method == http.MethodPost && to != "" {
		c.Method = to
	}
	h := c.Header()
	h.Set("Tus-Resumable", tusVersion)
	if c.Method == http.MethodOptions {
		h.Set("Tus-Version", tusVersion)
		h.Set("Tus-Extension", tusExtensions)
		h.Set("Tus-Checksum-Algorithm", tusChecksums)
		h.Set("Tus-Max-Size", strconv.FormatInt(mostUpload, 10))
		c.WriteHeader(http.StatusNoContent)
		return true, nil
	}
	if is := c.Request.Header.Get("Tus-Resumable"); is != tusVersion {
		h.Set("Tus-Version", tusVersion)
		return false, refusal{http.StatusPreconditionFailed, fmt.Sprintf("This is not tus %s, which is what is spoken here.", tusVersion)}
	}
	return false, nil
}

// uploads begins an upload.
func (s *Server) uploads(c *call) error {
	if done, err := c.tus(); done || err != nil {
		return err
	}
	size, err := c.number("Upload-Length")
	if err != nil {
		return err
	}
	if size > mostUpload {
		return refusal{http.StatusRequestEntityTooLarge, "No file is that large."}
	}
	part, err := partOf(c.Request.Header.Get("Upload-Metadata"))
	if err != nil {
		return err
	}
	part.Way, part.Size = inbox.ByPage, size
	with := c.Request.Header.Get("Content-Type") == pieceType
	if !with && c.ContentLength > 0 {
		return refusal{http.StatusUnsupportedMediaType, "What comes with an upload's beginning is of the type " + pieceType + "."}
	}
	box := c.phone.Inbox
	if part, err = box.Uploads.Begin(part, time.Now()); err != nil {
		return err
	}
	c.Header().Set("Location", "/p/uploads/"+part.ID)
	if with || size == 0 {
		part, err = s.append(c, part.ID, 0)
	} else {
		err = box.Uploads.Keep(part.ID)
	}
	if err != nil {
		return err
	}
	c.far(part)
	c.WriteHeader(http.StatusCreated)
	return nil
}

// number reads a header that is a number.
func (c *call) number(name string) (int64, error) {
	n, err := strconv.ParseInt(c.Request.Header.Get(name), 10, 64)
	if err != nil || n < 0 {
		return 0, refusal{http.StatusBadRequest, fmt.Sprintf("%s is missing, or no number.", name)}
	}
	return n, nil
}

// partOf reads what an upload is from its metadata: filename, and path where it lies in a folder; sha256 of its content,
// in hex; modified in milliseconds since 1970.
func partOf(text string) (p inbox.Upload, err error) {
	wrong := refusal{http.StatusBadRequest, "Upload-Metadata is not as tus 1.0 writes it: names, each with a value in Base64."}
	for pair := range strings.SplitSeq(text, ",") {
		name, coded, _ := strings.Cut(strings.TrimSpace(pair), " ")
		value, err := base64.StdEncoding.DecodeString(coded)
		if err != nil {
			return p, wrong
		}
		switch is := string(value); name {
		case "filename":
			if p.Path == "" {
				p.Path = is
			}
		case "path":
			p.Path = is
		case "sha256":
			if p.SHA256, err = contentOf(name, is); err != nil {
				return p, err
			}
		case "modified":
			ms, err := strconv.ParseInt(is, 10, 64)
			if err != nil {
				return p, refusal{http.StatusBadRequest, "modified is not a time in milliseconds since 1970."}
			}
			p.Modified = time.UnixMilli(ms)
		}
	}
	return p, nil
}

// contentOf reads the SHA-256 of a file, in hex, under the name that it was told.
func contentOf(name, said string) (string, error) {
	if sum, err := hex.DecodeString(said); err != nil || len(sum) != sha256.Size {
		return "", refusal{http.StatusBadRequest, name + " is not the SHA-256 of a file, in hex."}
	}
	return strings.ToLower(said), nil
}

// upload goes on with one, tells how far it is, or ends it.
func (s *Server) upload(c *call) error {
	if done, err := c.tus(); done || err != nil {
		return err
	}
	if id, err := hex.DecodeString(c.rest); err != nil || len(id) != 16 {
		return inbox.ErrNoPart
	}
	box := c.phone.Inbox
	switch c.Method {
	case http.MethodHead:
		part, err := box.Uploads.Far(c.Context(), c.rest)
		if err != nil {
			return err
		}
		c.far(part)
		c.Header().Set("Upload-Length", strconv.FormatInt(part.Size, 10))
		c.WriteHeader(http.StatusOK)
		return nil
	case http.MethodDelete:
		if err := box.Uploads.Stop(c.Context(), c.rest); err != nil {
			return err
		}
	case http.MethodPatch:
		if c.Request.Header.Get("Content-Type") != pieceType {
			return refusal{http.StatusUnsupportedMediaType, "A piece of an upload is of the type " + pieceType + "."}
		}
		offset, err := c.number("Upload-Offset")
		if err != nil {
			return err
		}
		part, err := s.append(c, c.rest, offset)
		if err != nil {
			return err
		}
		c.far(part)
	default:
		return refusal{http.StatusMethodNotAllowed, "This cannot be asked of an upload."}
	}
	c.WriteHeader(http.StatusNoContent)
	return nil
}

// far tells how far an upload is, and what became of it.
func (c *call) far(part inbox.Upload) {
	h := c.Header()
	h.Set("Upload-Offset", strconv.FormatInt(part.Offset, 10))
	if part.Took == nil {
		h.Set("Upload-Expires", part.Until.UTC().Format(http.TimeFormat))
	}
}

// append takes a piece in, checked where the phone says what it must be.
func (s *Server) append(c *call, id string, offset int64) (inbox.Upload, error) {
	var from io.Reader = c.body
	var check func() error
	if said := c.Request.Header.Get("Upload-Checksum"); said != "" {
		sum, want, err := checksum(said)
		if err != nil {
			return inbox.Upload{}, err
		}
		from = io.TeeReader(c.body, sum)
		check = func() error {
			if string(sum.Sum(nil)) != string(want) {
				return refusal{statusChecksum, "The piece has not the checksum that came with it; send it again."}
			}
			return nil
		}
	}
	if said := c.Request.Header.Get(contentHeader); said != "" {
		content, err := contentOf(contentHeader, said)
		if err == nil {
			err = c.phone.Inbox.Uploads.Must(id, content)
		}
		if err != nil {
			return inbox.Upload{}, err
		}
	}
	return c.phone.Inbox.Uploads.Append(c.Context(), id, offset, from, c.body.end, check)
}

func checksum(said string) (hash.Hash, []byte, error) {
	name, coded, _ := strings.Cut(said, " ")
	want, err := base64.StdEncoding.DecodeString(coded)
	var sum hash.Hash
	switch name {
	case "sha1":
		sum = sha1.New() //nolint:gosec // as above
	case "sha256":
		sum = sha256.New()
	}
	if err != nil || sum == nil || len(want) != sum.Size() {
		return nil, nil, refusal{http.StatusBadRequest, "Upload-Checksum is none of " + tusChecksums + " with a value in Base64."}
	}
	return sum, want, nil
}
