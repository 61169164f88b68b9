package service

import "context"

// AtTheMachine marks a call as one of somebody who can read this machine's token:
// the command line, and not a page in a browser. Only such a call may point the
// service at files and variables of its own.
func AtTheMachine(ctx context.Context) context.Context {
	return context.WithValue(ctx, callerKey{}, true)
}

type callerKey struct{}

func atTheMachine(ctx context.Context) bool {
	at, _ := ctx.Value(callerKey{}).(bool)
	return at
}
