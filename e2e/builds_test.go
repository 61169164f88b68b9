package e2e

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// The program of other machines starts, under an emulator of their processor: it joins,
// runs, and sends.
func TestOtherMachinesProgramsJoinAndSend(t *testing.T) {
	// Android's programs ask for its own linker; the one of GNU for the same processor does.
	root := t.TempDir()
	linker, err := os.ReadFile("/usr/aarch64-linux-gnu/lib/ld-linux-aarch64.so.1")
	require.NoError(t, err, "Debian: apt-get install libc6-arm64-cross")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "system/bin"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "system/bin/linker64"), linker, 0o755))
	for system, emulator := range map[string][]string{
		"linux/arm64":   {"qemu-aarch64-static"},
		"linux/arm":     {"qemu-arm-static"},
		"android/arm64": {"qemu-aarch64-static", "-L", root},
	} {
		t.Run(system, func(t *testing.T) {
			s, dir, _ := slip(t)
			name := "deck-phone"
			of, arch, _ := strings.Cut(system, "/")
			program := filepath.Join(t.TempDir(), "yardtide")
			build := exec.Command("go", "build", "-o", program, "../cmd/yardtide")
			build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+of, "GOARCH="+arch, "GOARM=7")
			out, err := build.CombinedOutput()
			require.NoError(t, err, "%s", out)
			run := func(args ...string) *exec.Cmd {
				cmd := exec.Command(emulator[0], append(append(append([]string{}, emulator[1:]...), program), args...)...)
				cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
				return cmd
			}
			code, err := s.client().AddDevice(t.Context(), name)
			require.NoError(t, err)
			data := filepath.Join(dir, name, "data")
			out, err = run("device", "join", code.Code, "-data", data).CombinedOutput()
			require.NoError(t, err, "%s", out)
			writes(t, dir, name+"/DCIM", "a.txt", "b.txt")
			feels(t, dir, name, onWiFi)
			cmd := run("device", "run", "-data", data, "-root", filepath.Join(dir, name), "-listen", freePort(t), "-conditions",
				filepath.Join(dir, name, "conditions.json"))
			pipe, err := cmd.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			go func() { // what it says is of no use, and must not fill the pipe
				for lines := bufio.NewScanner(pipe); lines.Scan(); {
				}
			}()
			s.until("its files are safe", safe(name, 2))
			require.NoError(t, cmd.Process.Signal(os.Interrupt))
			_ = cmd.Wait() // the emulator's own word for it
			s.until("it is told of still", safe(name, 2))
		})
	}
}
