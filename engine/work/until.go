package work

import (
	"context"
	"io"
)

// Until reads from r until the context ends; the error is its cause then.
func Until(ctx context.Context, r io.Reader) io.Reader { return until{ctx, r} }

type until struct {
	ctx context.Context //nolint:containedctx // of one call
	r   io.Reader
}

func (u until) Read(p []byte) (int, error) {
	if u.ctx.Err() != nil {
		return 0, context.Cause(u.ctx)
	}
	return u.r.Read(p)
}
