package proof_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/proof"
)

const keel = "the keel at low tide"

func sumOf(content string) string {
	sum := sha256.Sum256([]byte(content))
	return hex.EncodeToString(sum[:])
}

// holding is a storage that holds a file keel.jpg with a content.
func holding(t *testing.T, content string) destinationtest.Memory {
	var disk destinationtest.Disk
	m := destinationtest.Memory{At: func() *destinationtest.Disk { return &disk }}
	temp := destinationtest.Temp(1)
	require.NoError(t, m.Put(t.Context(), temp, strings.NewReader(content), 0, int64(len(content))))
	require.NoError(t, m.Publish(t.Context(), temp, "keel.jpg"))
	return m
}

// tells is a storage that tells a hash by itself.
type tells struct {
	destinationtest.Memory
	way  string
	err  error
	anew bool
}

func (s tells) Prove(context.Context, string, string, int64) (string, error) { return s.way, s.err }
func (s tells) ProvesAnew() bool                                             { return s.anew }

// opens is a storage whose files are read from what it opens; the size that it tells is the right one.
type opens struct {
	destinationtest.Memory
	of func() (io.Reader, error)
}

func (s opens) Open(context.Context, string) (io.ReadCloser, error) {
	r, err := s.of()
	return io.NopCloser(r), err
}

// endless never ends, and fails the test when far more is read than the file should have.
type endless struct {
	t    *testing.T
	read int
}

func (e *endless) Read(p []byte) (int, error) {
	e.read += len(p)
	require.Less(e.t, e.read, 10<<20, "a storage that never ends is read on and on")
	return len(p), nil
}

func TestAProofIsTheVeryBytes(t *testing.T) {
	t.Parallel()
	broken := errors.New("the line broke")
	other := destination.Differs("keel.jpg")
	same := func(content string) func(*testing.T) destination.Driver {
		return func(t *testing.T) destination.Driver { return holding(t, content) }
	}
	told := func(way string, err error, anew bool, content string) func(*testing.T) destination.Driver {
		return func(t *testing.T) destination.Driver { return tells{holding(t, content), way, err, anew} }
	}
	opened := func(of func(t *testing.T) (io.Reader, error)) func(*testing.T) destination.Driver {
		return func(t *testing.T) destination.Driver {
			return opens{holding(t, keel), func() (io.Reader, error) { return of(t) }}
		}
	}
	for name, c := range map[string]struct {
		at        func(*testing.T) destination.Driver
		path      string
		unread    bool // it may not be read back
		anew      bool // a hash that was kept since the file was written does not count
		way       string
		err       error
		different bool
	}{
		"the same":            {at: same(keel), way: proof.ReadBack},
		"one byte is another": {at: same("the keel at low tidE"), different: true},
		"shorter":             {at: same(keel[:5]), different: true},
		"longer":              {at: same(keel + "."), different: true},
		"empty":               {at: same(""), different: true},
		"not there":           {at: same(keel), path: "mast.jpg", err: destination.ErrNotFound},
		"may not be read":     {at: same(keel), unread: true, err: proof.ErrUnread},
		"cannot be opened": {at: opened(func(*testing.T) (io.Reader, error) { return strings.NewReader(""), broken }),
			err: broken},
		"breaks in the middle": {at: opened(func(*testing.T) (io.Reader, error) {
			return io.MultiReader(strings.NewReader(keel[:4]), fails{broken}), nil
		}), err: broken},
		"ends early": {at: opened(func(*testing.T) (io.Reader, error) {
			return strings.NewReader(keel[:4]), nil
		}), different: true},
		"goes on beyond its length": {at: opened(func(*testing.T) (io.Reader,
			error) {
			return strings.NewReader(keel + keel), nil
		}), different: true},
		"never ends": {at: opened(func(t *testing.T) (io.Reader, error) { return &endless{t: t}, nil }),
			different: true},
		"told by the storage": {at: told("its own word", nil, true, keel), unread: true, anew: true,
			way: "its own word"},
		"kept by the storage":         {at: told("kept", nil, false, keel), unread: true, way: "kept"},
		"kept, and asked for anew":    {at: told("kept", nil, false, "the keel at low tidE"), anew: true, different: true},
		"kept, and may not be read":   {at: told("kept", nil, false, keel), anew: true, unread: true, err: proof.ErrUnread},
		"the storage says it differs": {at: told("", other, true, keel), different: true},
		"the storage says not there":  {at: told("", destination.ErrNotFound, true, keel), err: destination.ErrNotFound},
		"the storage cannot tell":     {at: told("", nil, true, keel), way: proof.ReadBack},
		"it cannot, and it is other":  {at: told("", nil, true, keel[1:]+"."), different: true},
		"the storage breaks":          {at: told("", broken, true, keel), err: broken},
	} {
		t.Run(name, func(t *testing.T) {
			path := "keel.jpg"
			if c.path != "" {
				path = c.path
			}
			way, err := proof.Take(t.Context(), c.at(t), path, sumOf(keel), int64(len(keel)), !c.unread, c.anew)
			assert.Equal(t, c.way, way)
			switch {
			case c.different:
				assert.Equal(t, queue.Different, destination.CauseOf(err), "%v", err)
			case c.err != nil:
				assert.ErrorIs(t, err, c.err)
			default:
				assert.NoError(t, err)
			}
		})
	}
}

type fails struct{ err error }

func (f fails) Read([]byte) (int, error) { return 0, f.err }

func TestAProofThatIsCutProvesNothing(t *testing.T) {
	t.Parallel()
	why := errors.New("a gate shut")
	ctx, cancel := context.WithCancelCause(t.Context())
	s := opens{holding(t, keel), func() (io.Reader, error) {
		cancel(why)
		return strings.NewReader(keel), nil
	}}
	way, err := proof.Take(ctx, s, "keel.jpg", sumOf(keel), int64(len(keel)), true, true)
	assert.Empty(t, way)
	assert.ErrorIs(t, err, why)
}
