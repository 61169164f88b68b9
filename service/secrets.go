package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"

	"yardtide/core/plan"
	"yardtide/engine/atomicfile"
	"yardtide/engine/scan"
	"yardtide/wire"
)

// secretKind tells a destination's password from its key.
type secretKind string

const (
	password secretKind = "password"
	key      secretKind = "key"
)

// maxSecret is how long a secret may be, in bytes: a private key of any kind is
// shorter.
const maxSecret = 64 << 10

// vault keeps secrets encrypted with age (age-encryption.org/v1): each in a
// file of its own with the server that it was given for, the key beside them in
// one that only its owner can read. A copy of the data directory without that
// file gives nothing away.
type vault struct{ dir string }

func (v vault) keyFile() string { return filepath.Join(v.dir, "secrets.key") }

func (v vault) file(kind secretKind, name string) string {
	return filepath.Join(v.dir, "secrets", string(kind), name+".age")
}

// identity reads the key, making it when there is none and make is asked.
func (v vault) identity(make bool) (*age.X25519Identity, error) {
	text, err := os.ReadFile(v.keyFile())
	if errors.Is(err, fs.ErrNotExist) && make {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, fmt.Errorf("making the key of the secrets: %w", err)
		}
		if err := atomicfile.Write(v.keyFile(), id.String()+"\n"); err != nil {
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

// put keeps a secret of a destination for one server (plan.Destination.Server).
func (v vault) put(kind secretKind, name, server, secret string) error {
	if len(secret) > maxSecret {
		return fmt.Errorf("the %s of %s is longer than %d bytes", kind, name, maxSecret)
	}
	id, err := v.identity(true)
	if err != nil {
		return err
	}
	sealed, err := seal([]byte(server+"\n"+secret), id.Recipient().String())
	if err == nil {
		err = os.MkdirAll(filepath.Dir(v.file(kind, name)), 0o700)
	}
	if err == nil {
		err = atomicfile.Write(v.file(kind, name), string(sealed))
	}
	if err != nil {
		return fmt.Errorf("keeping the %s of %s: %w", kind, name, err)
	}
	return nil
}

// seal encrypts a text so that only who has the key of a recipient reads it.
func seal(text []byte, recipient string) ([]byte, error) {
	to, err := age.ParseX25519Recipient(recipient)
	if err != nil {
		return nil, err
	}
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, to)
	if err == nil {
		_, err = w.Write(text)
	}
	if err == nil {
		err = w.Close()
	}
	return sealed.Bytes(), err
}

// get reads the secret that is kept under a name for a server. One that was
// given for another server is not told: it is asked for again.
func (v vault) get(kind secretKind, name, server string) (string, error) {
	text, err := v.unseal(v.file(kind, name))
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("no %s of %s is kept here; %s", kind, name, giveAgain(kind, name))
	}
	if err != nil {
		return "", fmt.Errorf("opening the %s of %s: %w; %s", kind, name, err, giveAgain(kind, name))
	}
	for_, secret, _ := strings.Cut(text, "\n")
	if for_ != server {
		return "", fmt.Errorf("the %s of %s was given for %s and not for %s; %s", kind, name, for_, server, giveAgain(kind, name))
	}
	return secret, nil
}

func giveAgain(kind secretKind, name string) string {
	return fmt.Sprintf("give it with: yardtide destination secret %s %s", name, map[secretKind]string{password: "-password-stdin", key: "-key-file FILE"}[kind])
}

func (v vault) unseal(file string) (string, error) {
	sealed, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer sealed.Close()
	return v.open(sealed)
}

// open reads what was sealed to this vault's key.
func (v vault) open(sealed io.Reader) (string, error) {
	id, err := v.identity(false)
	if err != nil {
		return "", err
	}
	r, err := age.Decrypt(io.LimitReader(sealed, 1<<20), id)
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(io.LimitReader(r, 1<<20))
	return string(text), err
}

// remove forgets the secrets of a destination; none is no error.
func (v vault) remove(name string) error {
	for _, kind := range []secretKind{password, key} {
		if err := os.Remove(v.file(kind, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing the %s of %s: %w", kind, name, err)
		}
	}
	return nil
}

// takeOver keeps what an earlier version kept, in one file a name and for any
// server, for the servers that the plan in force names.
func (v vault) takeOver(p *plan.Plan) (failed error) {
	var done []string
	for _, d := range p.Destinations {
		for kind, from := range secretsOf(d) {
			kept, ok := strings.CutPrefix(string(from), "kept:")
			old := filepath.Join(v.dir, "secrets", kept+".age")
			if _, err := os.Stat(old); !ok || err != nil {
				continue
			}
			secret, err := v.unseal(old)
			if err == nil {
				err = v.put(kind, kept, d.Server(), secret)
			}
			if err != nil {
				failed = errors.Join(failed, fmt.Errorf("taking over the secret %s: %w", kept, err))
				continue
			}
			done = append(done, old)
		}
	}
	for _, old := range done {
		if err := os.Remove(old); err != nil && !errors.Is(err, fs.ErrNotExist) {
			failed = errors.Join(failed, fmt.Errorf("removing the secret that was taken over: %w", err))
		}
	}
	return failed
}

func secretsOf(d plan.Destination) map[secretKind]plan.Secret {
	all := map[secretKind]plan.Secret{}
	if d.PasswordFrom != "" {
		all[password] = d.PasswordFrom
	}
	if d.KeyFrom != "" {
		all[key] = d.KeyFrom
	}
	return all
}

// read reads a secret for a server from where the plan says it is. It is read
// at every use and kept nowhere.
func (v vault) read(kind secretKind, from plan.Secret, server string) (string, error) {
	where, what, _ := strings.Cut(string(from), ":")
	switch where {
	case "kept":
		return v.get(kind, what, server)
	case "file":
		return secretFile(what)
	}
	secret, ok := os.LookupEnv(what)
	if !ok {
		return "", fmt.Errorf("the environment variable %s is not set", what)
	}
	return secret, nil
}

// secretFile reads a short, regular file.
func secretFile(name string) (string, error) {
	text, err := scan.ReadSmall(name, maxSecret)
	if err != nil {
		return "", fmt.Errorf("reading the secret: %w", err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

// SecretRefused tells that a destination may not use a secret.
type SecretRefused struct{ Name, Says string }

func (e SecretRefused) Error() string { return "destination " + e.Name + ": " + e.Says }

// mayUse decides, for drafts and for plans alike, whether a destination may use
// a secret: one that the plan in force already uses for it at the same server,
// or one kept under its own name. Files and variables are for who is at this
// machine: a page in a browser could else send any of them anywhere.
func (s *Service) mayUse(ctx context.Context, name string, d plan.Destination, from plan.Secret) error {
	if now, there := s.planOrEmpty().Destinations[name]; there && now.Server() == d.Server() {
		for _, used := range secretsOf(now) {
			if used == from {
				return nil
			}
		}
	}
	where, what, _ := strings.Cut(string(from), ":")
	switch {
	case where == "kept" && (what == name || what == name+".key" || atTheMachine(ctx)): // the vault sees to the server
		return nil
	case where == "kept":
		return SecretRefused{name, fmt.Sprintf("%s is kept for another destination; give the %s of this one", from, password)}
	case atTheMachine(ctx):
		return nil
	}
	return SecretRefused{name, fmt.Sprintf("only the command line on this machine may point at %s; give the password here, or run there: yardtide plan apply", map[string]string{"file": "a file", "env": "an environment variable"}[where])}
}

// mayUseAll is mayUse for every destination of a plan.
func (s *Service) mayUseAll(ctx context.Context, p *plan.Plan) error {
	for name, d := range p.Destinations {
		for _, from := range secretsOf(d) {
			if err := s.mayUse(ctx, name, d, from); err != nil {
				return err
			}
		}
	}
	return nil
}

// secretReader reads a destination's secret from where it says it is.
type secretReader func(kind secretKind, from plan.Secret) (string, error)

// secretsFor reads the secrets of a destination of the plan in force.
func (v vault) secretsFor(d plan.Destination) secretReader {
	return func(kind secretKind, from plan.Secret) (string, error) { return v.read(kind, from, d.Server()) }
}

// draftSecrets reads the secrets that were given with a draft, and others if it
// may use them.
func (s *Service) draftSecrets(ctx context.Context, draft wire.Draft) secretReader {
	given := map[secretKind]string{password: draft.Password, key: draft.Key}
	return func(kind secretKind, from plan.Secret) (string, error) {
		if given[kind] != "" {
			return given[kind], nil
		}
		if err := s.mayUse(ctx, draft.Name, draft.Destination, from); err != nil {
			return "", err
		}
		return vault{s.Dir}.read(kind, from, draft.Destination.Server())
	}
}

// withSecrets points a draft's destination at the secrets that came with it,
// where they will be kept.
func withSecrets(draft wire.Draft) wire.Draft {
	if draft.Password != "" {
		draft.Destination.PasswordFrom = plan.Secret("kept:" + draft.Name)
	}
	if draft.Key != "" {
		draft.Destination.KeyFrom = plan.Secret("kept:" + draft.Name)
	}
	return draft
}

// keepSecrets keeps what came with a draft.
func (s *Service) keepSecrets(draft wire.Draft) error {
	for kind, secret := range map[secretKind]string{password: draft.Password, key: draft.Key} {
		if secret == "" {
			continue
		}
		if err := (vault{s.Dir}).put(kind, draft.Name, draft.Destination.Server(), secret); err != nil {
			return err
		}
	}
	return nil
}

// SetSecret keeps the password or the key of a destination of the plan anew, for
// the server that the plan names now.
func (s *Service) SetSecret(name string, given wire.Secrets) error {
	d, there := s.planOrEmpty().Destinations[name]
	if !there {
		return ErrNoDestination
	}
	for kind, secret := range map[secretKind]string{password: given.Password, key: given.Key} {
		kept, ok := strings.CutPrefix(string(secretsOf(d)[kind]), "kept:")
		if secret == "" {
			continue
		}
		if !ok {
			return SecretRefused{name, fmt.Sprintf("the plan does not say that its %s is kept here; write %s-from: kept:%s", kind, kind, name)}
		}
		if err := (vault{s.Dir}).put(kind, kept, d.Server(), secret); err != nil {
			return err
		}
	}
	s.drivers.forget()
	for _, d := range s.Devices() {
		d.TryAgain(name)
	}
	return nil
}
