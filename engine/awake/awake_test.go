package awake_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/awake"
	"yardtide/standin/desktop"
)

const logind, manager = "org.freedesktop.login1", "/org/freedesktop/login1"

func TestLogindIsHeldAndLetGo(t *testing.T) {
	b, err := desktop.Start(t.Context(), t.TempDir())
	require.NoError(t, err)
	log := filepath.Join(t.TempDir(), "log")
	_, err = b.Mock(t.Context(), logind, "--system", "--template", "logind", "--logfile", log)
	require.NoError(t, err)
	held := func() (what []string) {
		var list []struct {
			What, Who, Why, Mode string
			UID, PID             uint32
		}
		require.NoError(t, b.Conn.Object(logind, manager).Call(logind+".Manager.ListInhibitors", 0).Store(&list))
		for _, one := range list {
			what = append(what, one.What+" "+one.Who+" "+one.Mode)
		}
		return what
	}
	l := awake.Logind{Address: b.Address}
	release, err := l.Hold(t.Context(), "Pictures are on their way")
	require.NoError(t, err)
	assert.Equal(t, []string{"sleep Yard Tide block"}, held(), "the screen may go dark")
	release()
	require.Eventually(t, func() bool { return len(held()) == 0 }, time.Minute, 20*time.Millisecond)
	require.NoError(t, l.Do(t.Context(), awake.Sleep))
	require.NoError(t, l.Do(t.Context(), awake.Off))
	require.Error(t, l.Do(t.Context(), "explode"))
	require.Eventually(t, func() bool {
		text, err := os.ReadFile(log)
		return err == nil && strings.Contains(string(text), "Suspend") && strings.Contains(string(text), "PowerOff")
	}, time.Minute, 50*time.Millisecond)
}

func TestWithoutLogindThatIsSaid(t *testing.T) {
	_, err := awake.Logind{Address: "unix:path=/nowhere"}.Hold(t.Context(), "x")
	require.ErrorIs(t, err, awake.ErrUnable)
}
