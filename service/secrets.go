package service

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"

	"yardtide/core/plan"
)

// vault keeps secrets encrypted with age (age-encryption.org/v1): each in a
// file of its own, the key beside them in one that only its owner can read. A
// copy of the data directory without that file gives nothing away.
type vault struct{ dir string }

func (v vault) keyFile() string         { return filepath.Join(v.dir, "secrets.key") }
func (v vault) file(name string) string { return filepath.Join(v.dir, "secrets", name+".age") }

// identity reads the key, making it when there is none and make is asked.
func (v vault) identity(make bool) (*age.X25519Identity, error) {
	text, err := os.ReadFile(v.keyFile())
	if errors.Is(err, fs.ErrNotExist) && make {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, fmt.Errorf("making the key of the secrets: %w", err)
		}
		if err := writeFile(v.keyFile(), id.String()+"\n"); err != nil {
			return nil, fmt.Errorf("keeping the key of the secrets: %w", err)
		}
		return id, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the key of the secrets: %w", err)
	}
	id, err := age.ParseX25519Identity(strings.TrimSpace(string(text)))
	if err != nil { // the parser's message may hold parts of the key
		return nil, fmt.Errorf("the key of the secrets in %s is not an age key; put the one back that was there, or remove the file and give every password anew", v.keyFile())
	}
	return id, nil
}

// put keeps a secret under a name.
func (v vault) put(name, secret string) error {
	id, err := v.identity(true)
	if err != nil {
		return err
	}
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, id.Recipient())
	if err == nil {
		_, err = io.WriteString(w, secret)
	}
	if err == nil {
		err = w.Close()
	}
	if err == nil {
		err = os.MkdirAll(filepath.Dir(v.file(name)), 0o700)
	}
	if err == nil {
		err = writeFile(v.file(name), sealed.String())
	}
	if err != nil {
		return fmt.Errorf("keeping the secret %s: %w", name, err)
	}
	return nil
}

// get reads a kept secret.
func (v vault) get(name string) (string, error) {
	sealed, err := os.Open(v.file(name))
	if err != nil {
		return "", fmt.Errorf("reading the secret %s: %w", name, err)
	}
	defer sealed.Close()
	id, err := v.identity(false)
	if err != nil {
		return "", err
	}
	r, err := age.Decrypt(sealed, id)
	if err != nil {
		return "", fmt.Errorf("opening the secret %s: %w; give it anew with yardtide destination add", name, err)
	}
	text, err := io.ReadAll(io.LimitReader(r, 1<<20))
	if err != nil {
		return "", fmt.Errorf("opening the secret %s: %w", name, err)
	}
	return string(text), nil
}

// remove forgets a secret; none of that name is no error.
func (v vault) remove(name string) error {
	if err := os.Remove(v.file(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("removing the secret %s: %w", name, err)
	}
	return nil
}

// read reads a secret from where the plan says it is. It is read at every use
// and kept nowhere.
func (v vault) read(from plan.Secret) (string, error) {
	where, what, _ := strings.Cut(string(from), ":")
	switch where {
	case "kept":
		return v.get(what)
	case "file":
		text, err := os.ReadFile(what)
		if err != nil {
			return "", fmt.Errorf("reading the secret: %w", err)
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	}
	secret, ok := os.LookupEnv(what)
	if !ok {
		return "", fmt.Errorf("the environment variable %s is not set", what)
	}
	return secret, nil
}
