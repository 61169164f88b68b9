//go:build windows

package awake

import (
	"context"
	"fmt"
	"runtime"

	"golang.org/x/sys/windows"
)

func windowsHere() System { return win{} }

// win asks the system (SetThreadExecutionState).
type win struct{}

var executionState = windows.NewLazySystemDLL("kernel32.dll").NewProc("SetThreadExecutionState")

// EXECUTION_STATE
const (
	esContinuous     = 0x80000000
	esSystemRequired = 0x00000001
)

func (win) Hold(context.Context, string) (func(), error) {
	release, held := make(chan struct{}), make(chan error)
	go func() {
		runtime.LockOSThread() // the state is the thread's, and ends with it
		var err error
		if before, _, _ := executionState.Call(esContinuous | esSystemRequired); before == 0 {
			err = ErrUnable
		}
		held <- err
		if err == nil {
			<-release
			_, _, _ = executionState.Call(esContinuous)
		}
	}()
	if err := <-held; err != nil {
		return nil, err
	}
	return func() { close(release) }, nil
}

func (win) Do(ctx context.Context, then Then) error {
	switch then {
	case Off:
		return run(ctx, "shutdown", "/s", "/t", "0")
	case Sleep:
		return run(ctx, "rundll32.exe", "powrprof.dll,SetSuspendState", "0,1,0")
	}
	return fmt.Errorf("a system cannot %q", then)
}
