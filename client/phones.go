package client

import (
	"context"
	"net/http"
	"net/url"

	"yardtide/wire/phonewire"
)

// Phones are the calls about phones that hand over.
type Phones struct{ c Client }

// Phones returns the calls about phones that hand over.
func (c Client) Phones() Phones { return Phones{c} }

// All asks for every phone.
func (of Phones) All(ctx context.Context) ([]phonewire.InboxPhone, error) {
	return ask[[]phonewire.InboxPhone](ctx, of.c, http.MethodGet, "/phones", nil)
}

// Add adds a phone, or gives one new keys.
func (of Phones) Add(ctx context.Context, a phonewire.PhoneAdd) (phonewire.PhoneKeys, error) {
	return ask[phonewire.PhoneKeys](ctx, of.c, http.MethodPost, "/phones", a)
}

// Set changes a phone.
func (of Phones) Set(ctx context.Context, name string, s phonewire.PhoneSet) error {
	_, err := ask[struct{}](ctx, of.c, http.MethodPatch, "/phones/"+url.PathEscape(name), s)
	return err
}

// Revoke has a phone answered no more.
func (of Phones) Revoke(ctx context.Context, name string) error {
	_, err := ask[struct{}](ctx, of.c, http.MethodPost, "/phones/"+url.PathEscape(name)+"/revoke", nil)
	return err
}

// TakeBack puts what lies in a phone's holding place into its inbox again.
func (of Phones) TakeBack(ctx context.Context, name string) (phonewire.TakenBack, error) {
	return ask[phonewire.TakenBack](ctx, of.c, http.MethodPost, "/phones/"+url.PathEscape(name)+"/take-back", nil)
}

// Network asks where the service listens for phones.
func (of Phones) Network(ctx context.Context) (phonewire.PhoneNetwork, error) {
	return ask[phonewire.PhoneNetwork](ctx, of.c, http.MethodGet, "/phone-network", nil)
}

// SetNetwork says where to listen for phones.
func (of Phones) SetNetwork(ctx context.Context, n phonewire.PhoneNetwork) (phonewire.PhoneNetwork, error) {
	return ask[phonewire.PhoneNetwork](ctx, of.c, http.MethodPut, "/phone-network", n)
}
