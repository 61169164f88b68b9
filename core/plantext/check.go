package plantext

import (
	"fmt"
	"net"
	"net/url"
	"path"
	"regexp"
	"strconv"
	"strings"

	"yardtide/core/plan"
)

// This file checks the words of a destination.

func wrong(would, format string, args ...any) error {
	return plan.Mistake{What: fmt.Sprintf(format, args...), Would: would}
}

func checkURL(s string) error {
	would := `would be an address such as "https://storage.example/dav/"`
	u, err := url.Parse(s)
	switch {
	case err != nil, u.Host == "", u.Scheme != "http" && u.Scheme != "https":
		return wrong(would, "%q is not a web address", redact(s))
	case u.User != nil:
		return wrong(`would have the name under "user" and the password under "password-from"`,
			"the address holds a name or password")
	case u.RawQuery != "" || u.Fragment != "":
		return wrong(would, "the address has a query or a fragment")
	}
	return nil
}

// redact keeps what might be a password in a mistyped address out of messages.
func redact(s string) string {
	if at := strings.LastIndex(s, "@"); at >= 0 {
		return "…" + s[at:]
	}
	return s
}

var hostKeyForm = regexp.MustCompile(`^SHA256:[A-Za-z0-9+/]{43}$`)

func checkHostKey(s string) error {
	if hostKeyForm.MatchString(s) {
		return nil
	}
	return wrong(`would be such as "SHA256:" and 43 letters: what ssh-keyscan HOST | ssh-keygen -lf - prints`,
		"%q is not the fingerprint of a host key", s)
}

var (
	certificateForm = regexp.MustCompile(`^SHA256:[0-9a-fA-F]{64}$`)
	bucketForm      = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$`)
)

func checkCertificate(s string) error {
	if certificateForm.MatchString(s) {
		return nil
	}
	return wrong(`would be "SHA256:" and 64 hex digits: what yardtide destination test shows`,
		"%q is not the fingerprint of a certificate", s)
}

func checkBucket(s string) error {
	if bucketForm.MatchString(s) {
		return nil
	}
	return wrong("would be 3 to 63 small letters, digits, dots and dashes", "%q is not the name of a bucket", s)
}

func checkAuthority(s string) error {
	if path.IsAbs(s) {
		return nil
	}
	return wrong("would begin with /, such as /etc/yard/authority.pem", "the path %q is not absolute", s)
}

func checkAddress(s string) error {
	host, port, err := net.SplitHostPort(s)
	if n, perr := strconv.Atoi(port); err != nil || host == "" || perr != nil || n < 1 || n > 65535 {
		return wrong(`would be host:port, such as "shed.example:22"`, "%q is not an address", redact(s))
	}
	return nil
}

func checkSecret(s string) error {
	where, what, _ := strings.Cut(s, ":")
	if where == "env" && what != "" || where == "file" && path.IsAbs(what) || where == "kept" && plan.IsName(what) {
		return nil
	}
	// The value itself may be a password put here by mistake: it is not repeated.
	return wrong(`would be "kept:NAME", "env:NAME" or "file:/absolute/path"`, "this does not say where the secret is kept")
}
