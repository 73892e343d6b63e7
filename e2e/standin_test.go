package e2e

import (
	"bufio"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// startStandin runs a stand-in as a program of its own and gives its address.
func startStandin(t *testing.T, kind string, args ...string) string {
	t.Helper()
	cmd := exec.Command(binary, append([]string{"standin", kind, "--listen", "127.0.0.1:0"}, args...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGINT)
		_ = cmd.Wait()
	})
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	_, address, ok := strings.Cut(lines.Text(), " is up at ")
	require.True(t, ok, lines.Text())
	return strings.TrimSuffix(address, "/")
}
