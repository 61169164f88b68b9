// Package caller knows who asks the service for something, and keeps what lets a caller in. Which
// call asks for what is decided in service/api.
package caller

import "context"

// AtTheMachine marks a call as one of somebody who can read this machine's token:
// the command line, and not a page in a browser. Only such a call may point the
// service at files and variables of its own.
func AtTheMachine(ctx context.Context) context.Context {
	return context.WithValue(ctx, key{}, true)
}

type key struct{}

// IsAtTheMachine tells whether a call is marked so.
func IsAtTheMachine(ctx context.Context) bool {
	at, _ := ctx.Value(key{}).(bool)
	return at
}
