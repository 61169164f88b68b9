// Package vault keeps the passwords and keys of destinations, and decides who may have one used. It knows no
// driver and no device: who needs a secret reads it at every use, and keeps it nowhere.
package vault

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
	"yardtide/service/caller"
	"yardtide/wire"
)

// Kind tells a destination's password from its key.
type Kind string

const (
	Password Kind = "password"
	Key      Kind = "key"
)

// maxSecret is how long a secret may be, in bytes: a private key of any kind is
// shorter.
const maxSecret = 64 << 10

// Vault keeps secrets encrypted with age (age-encryption.org/v1): each in a
// file of its own with the server that it was given for, the key beside them in
// one that only its owner can read. A copy of the data directory without that
// file gives nothing away.
type Vault struct{ Dir string }

func (v Vault) keyFile() string { return filepath.Join(v.Dir, "secrets.key") }

func (v Vault) file(kind Kind, name string) string {
	return filepath.Join(v.Dir, "secrets", string(kind), name+".age")
}

// identity reads the key, making it when there is none and make is asked.
func (v Vault) identity(make bool) (*age.X25519Identity, error) {
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
		return nil, fmt.Errorf("the key of the secrets in %s is not an age key; put the one back that was there, or "+
			"remove the file and give every password anew", v.keyFile())
	}
	return id, nil
}

// Recipient is to whom what only this vault reads is sealed; its key is made when there is none.
func (v Vault) Recipient() (string, error) {
	id, err := v.identity(true)
	if err != nil {
		return "", err
	}
	return id.Recipient().String(), nil
}

// Put keeps a secret of a destination for one server (plan.Destination.Server).
func (v Vault) Put(kind Kind, name, server, secret string) error {
	if len(secret) > maxSecret {
		return fmt.Errorf("the %s of %s is longer than %d bytes", kind, name, maxSecret)
	}
	id, err := v.identity(true)
	if err != nil {
		return err
	}
	sealed, err := Seal([]byte(server+"\n"+secret), id.Recipient().String())
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

// Seal encrypts a text so that only who has the key of a recipient reads it.
func Seal(text []byte, recipient string) ([]byte, error) {
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
func (v Vault) get(kind Kind, name, server string) (string, error) {
	text, err := v.unseal(v.file(kind, name))
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("no %s of %s is kept here; %s", kind, name, giveAgain(kind, name))
	}
	if err != nil {
		return "", fmt.Errorf("opening the %s of %s: %w; %s", kind, name, err, giveAgain(kind, name))
	}
	for_, secret, _ := strings.Cut(text, "\n")
	if for_ != server {
		return "", fmt.Errorf("the %s of %s was given for %s and not for %s; %s", kind, name, for_, server,
			giveAgain(kind, name))
	}
	return secret, nil
}

func giveAgain(kind Kind, name string) string {
	return fmt.Sprintf("give it with: yardtide destination secret %s %s", name,
		map[Kind]string{Password: "-password-stdin", Key: "-key-file FILE"}[kind])
}

func (v Vault) unseal(file string) (string, error) {
	sealed, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer sealed.Close()
	return v.Open(sealed)
}

// Open reads what was sealed to this vault's key.
func (v Vault) Open(sealed io.Reader) (string, error) {
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

// Remove forgets the secrets of a destination; none is no error.
func (v Vault) Remove(name string) error {
	for _, kind := range []Kind{Password, Key} {
		if err := os.Remove(v.file(kind, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing the %s of %s: %w", kind, name, err)
		}
	}
	return nil
}

// TakeOver keeps what an earlier version kept, in one file a name and for any
// server, for the servers that the plan in force names.
func (v Vault) TakeOver(p *plan.Plan) (failed error) {
	var done []string
	for _, d := range p.Destinations {
		for kind, from := range SecretsOf(d) {
			kept, ok := strings.CutPrefix(string(from), "kept:")
			old := filepath.Join(v.Dir, "secrets", kept+".age")
			if _, err := os.Stat(old); !ok || err != nil {
				continue
			}
			secret, err := v.unseal(old)
			if err == nil {
				err = v.Put(kind, kept, d.Server(), secret)
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

// SecretsOf are where a destination's password and key are, as far as the plan names them.
func SecretsOf(d plan.Destination) map[Kind]plan.Secret {
	all := map[Kind]plan.Secret{}
	if d.PasswordFrom != "" {
		all[Password] = d.PasswordFrom
	}
	if d.KeyFrom != "" {
		all[Key] = d.KeyFrom
	}
	return all
}

// Read reads a secret for a server from where the plan says it is. It is read
// at every use and kept nowhere.
func (v Vault) Read(kind Kind, from plan.Secret, server string) (string, error) {
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

// Reader reads a destination's secret from where it says it is.
type Reader func(kind Kind, from plan.Secret) (string, error)

// For reads the secrets of a destination of the plan in force.
func (v Vault) For(d plan.Destination) Reader {
	return func(kind Kind, from plan.Secret) (string, error) { return v.Read(kind, from, d.Server()) }
}

// Refused tells that a destination may not use a secret.
type Refused struct{ Name, Says string }

func (e Refused) Error() string { return "destination " + e.Name + ": " + e.Says }

// MayUse decides, for drafts and for plans alike, whether a destination may use
// a secret: one that the plan in force already uses for it at the same server,
// or one kept under its own name. Files and variables are for who is at this
// machine: a page in a browser could else send any of them anywhere.
func MayUse(ctx context.Context, inForce *plan.Plan, name string, d plan.Destination, from plan.Secret) error {
	if now, there := inForce.Destinations[name]; there && now.Server() == d.Server() {
		for _, used := range SecretsOf(now) {
			if used == from {
				return nil
			}
		}
	}
	where, what, _ := strings.Cut(string(from), ":")
	switch {
	case where == "kept" && (what == name || what == name+".key" ||
		caller.IsAtTheMachine(ctx)): // the vault sees to the server
		return nil
	case where == "kept":
		return Refused{name, fmt.Sprintf("%s is kept for another destination; give the %s of this one", from, Password)}
	case caller.IsAtTheMachine(ctx):
		return nil
	}
	return Refused{name, fmt.Sprintf("only the command line on this machine may point at %s; give the password here, "+
		"or run there: yardtide plan apply", map[string]string{"file": "a file", "env": "an environment variable"}[where])}
}

// MayUseAll is MayUse for every destination of a plan.
func MayUseAll(ctx context.Context, inForce, p *plan.Plan) error {
	for name, d := range p.Destinations {
		for _, from := range SecretsOf(d) {
			if err := MayUse(ctx, inForce, name, d, from); err != nil {
				return err
			}
		}
	}
	return nil
}

// WithSecrets points a draft's destination at the secrets that came with it,
// where they will be kept.
func WithSecrets(draft wire.Draft) wire.Draft {
	if draft.Password != "" {
		draft.Destination.PasswordFrom = plan.Secret("kept:" + draft.Name)
	}
	if draft.Key != "" {
		draft.Destination.KeyFrom = plan.Secret("kept:" + draft.Name)
	}
	return draft
}
