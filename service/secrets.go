package service

import (
	"context"
	"fmt"
	"strings"

	"yardtide/core/plan"
	"yardtide/service/vault"
	"yardtide/wire"
)

// draftSecrets reads the secrets that were given with a draft, and others if it
// may use them.
func (s *Destinations) draftSecrets(ctx context.Context, draft wire.Draft) vault.Reader {
	given := map[vault.Kind]string{vault.Password: draft.Password, vault.Key: draft.Key}
	return func(kind vault.Kind, from plan.Secret) (string, error) {
		if given[kind] != "" {
			return given[kind], nil
		}
		if err := vault.MayUse(ctx, s.book.PlanOrEmpty(), draft.Name, draft.Destination, from); err != nil {
			return "", err
		}
		return s.drivers.secrets.Read(kind, from, draft.Destination.Server())
	}
}

// keepSecrets keeps what came with a draft.
func (s *Destinations) keepSecrets(draft wire.Draft) error {
	for kind, secret := range map[vault.Kind]string{vault.Password: draft.Password, vault.Key: draft.Key} {
		if secret == "" {
			continue
		}
		if err := s.drivers.secrets.Put(kind, draft.Name, draft.Destination.Server(), secret); err != nil {
			return err
		}
	}
	return nil
}

// SetSecret keeps the password or the key of a destination of the plan anew, for
// the server that the plan names now.
func (s *Destinations) SetSecret(name string, given wire.Secrets) error {
	d, there := s.book.PlanOrEmpty().Destinations[name]
	if !there {
		return ErrNoDestination
	}
	for kind, secret := range map[vault.Kind]string{vault.Password: given.Password, vault.Key: given.Key} {
		kept, ok := strings.CutPrefix(string(vault.SecretsOf(d)[kind]), "kept:")
		if secret == "" {
			continue
		}
		if !ok {
			return vault.Refused{Name: name, Says: fmt.Sprintf("the plan does not say that its %s is kept here; write "+
				"%s-from: kept:%s", kind, kind, name)}
		}
		if err := s.drivers.secrets.Put(kind, kept, d.Server(), secret); err != nil {
			return err
		}
	}
	s.drivers.forget()
	for _, d := range s.devices() {
		d.Orders.TryAgain(name)
	}
	return nil
}
