package testpeers

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Host is an sshd on loopback, in which whoever runs the test is signed in by a key.
type Host struct {
	Port    int
	Account string
	HostKey string // as in known_hosts
	Key     []byte // of the client, in PEM
	Cmd     *exec.Cmd
}

// Keys makes a key, in PEM and as a line of known_hosts.
func Keys(t testing.TB) (private []byte, public string) {
	_, k, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(k, "")
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(k)
	require.NoError(t, err)
	return pem.EncodeToMemory(block), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.PublicKey())))
}

// SSHD starts one, with more lines of its settings.
func SSHD(t testing.TB, more ...string) *Host {
	// Not in t.TempDir: sshd's own account must be able to read the way to authorized_keys.
	dir, err := os.MkdirTemp("", "urgentis-sshd-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) }) //nolint:errcheck // it lies in the temporary folder
	require.NoError(t, os.Chmod(dir, 0o755))
	hostKey, hostPub := Keys(t)
	clientKey, clientPub := Keys(t)
	file := func(name string, b []byte, mode os.FileMode) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, b, mode))
		return p
	}
	port := FreePort(t)
	conf := file("sshd_config", fmt.Appendf(nil, "Port %d\nListenAddress 127.0.0.1\nHostKey %s\nAuthorizedKeysFile "+
		"%s\nStrictModes no\nUsePAM no\nPidFile none\nPermitRootLogin yes\nPasswordAuthentication no\n%s\n",
		port, file("host", hostKey, 0o600), file("authorized", []byte(clientPub+"\n"), 0o644),
		strings.Join(more, "\n")), 0o644)
	if os.Getuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	}
	u, err := user.Current()
	require.NoError(t, err)
	cmd := Start(t, Answers(port), "/usr/sbin/sshd", "-D", "-e", "-f", conf)
	return &Host{Port: port, Account: u.Username, HostKey: hostPub, Key: clientKey, Cmd: cmd}
}
