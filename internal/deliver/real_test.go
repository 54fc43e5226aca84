package deliver_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// real finds a server of Debian's packages; a test against one that is not
// installed is left out.
func real(t *testing.T, path string) string {
	t.Helper()
	if _, err := os.Stat(path); err != nil {
		t.Skipf("%s is not installed", path)
	}
	if os.Getuid() != 0 {
		t.Skip("the server wants to be started by root")
	}
	return path
}

// serve runs a server on a free port until the test ends, and waits until it
// answers.
func serve(t *testing.T, start func(port int) *exec.Cmd) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	cmd := start(port)
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill() // it keeps nothing
		_ = cmd.Wait()
	})
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond, "the server answers: %s", cmd.Args)
	return port
}

func TestFilesArriveAtOpenSSH(t *testing.T) {
	sshd := real(t, "/usr/sbin/sshd")
	dir, files := t.TempDir(), t.TempDir()
	key := func(name string) (private []byte, public ssh.PublicKey) {
		_, k, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		block, err := ssh.MarshalPrivateKey(k, name)
		require.NoError(t, err)
		signer, err := ssh.NewSignerFromKey(k)
		require.NoError(t, err)
		return pem.EncodeToMemory(block), signer.PublicKey()
	}
	host, _ := key("host")
	mine, public := key("mine")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "host"), host, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authorized"), ssh.MarshalAuthorizedKey(public), 0o600))
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	config := fmt.Sprintf("ListenAddress 127.0.0.1\nHostKey %s/host\nAuthorizedKeysFile %s/authorized\nPidFile none\nStrictModes no\nPermitRootLogin yes\nPasswordAuthentication no\nSubsystem sftp internal-sftp\n", dir, dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte(config), 0o600))
	port := serve(t, func(port int) *exec.Cmd {
		return exec.Command(sshd, "-D", "-e", "-f", filepath.Join(dir, "config"), "-p", fmt.Sprint(port))
	})
	me, err := user.Current()
	require.NoError(t, err)
	p := place{place: settings(t, "sftp", string(mine), map[string]any{"host": "127.0.0.1", "port": port, "user": me.Username, "folder": files}), content: onDisk(files)}
	tested, err := p.open(t).Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(tested.Said, "; "), "OpenSSH")
	p.place.Pin = tested.Pin
	arrive(t, p)
	p.place.Secret = "a password"
	_, err = p.open(t).Test(context.Background())
	assert.Equal(t, fault.Lasting, fault.Of(err).Class)
}

func TestFilesArriveAtSamba(t *testing.T) {
	smbd := real(t, "/usr/sbin/smbd")
	dir, files := t.TempDir(), t.TempDir()
	var config strings.Builder
	config.WriteString("[global]\nserver role = standalone server\ninterfaces = lo\nbind interfaces only = yes\nload printers = no\ndisable spoolss = yes\nserver min protocol = SMB2_10\nlog level = 0\n")
	for _, name := range []string{"private dir", "lock directory", "state directory", "cache directory", "pid directory", "ncalrpc dir"} {
		at := filepath.Join(dir, strings.ReplaceAll(name, " ", "-"))
		require.NoError(t, os.MkdirAll(at, 0o755))
		fmt.Fprintf(&config, "%s = %s\n", name, at)
	}
	fmt.Fprintf(&config, "log file = %s/log\n[reports]\npath = %s\nread only = no\n", dir, files)
	conf := filepath.Join(dir, "smb.conf")
	require.NoError(t, os.WriteFile(conf, []byte(config.String()), 0o600))
	me, err := user.Current()
	require.NoError(t, err)
	add := exec.Command("smbpasswd", "-c", conf, "-s", "-a", me.Username)
	add.Stdin = strings.NewReader("slipway\nslipway\n")
	text, err := add.CombinedOutput()
	require.NoError(t, err, string(text))
	port := serve(t, func(port int) *exec.Cmd {
		return exec.Command(smbd, "--foreground", "--no-process-group", "--debug-stdout", "-s", conf, "-p", fmt.Sprint(port))
	})
	p := place{place: settings(t, "smb", "slipway", map[string]any{"host": "127.0.0.1", "port": port, "share": "reports", "user": me.Username}), content: onDisk(files)}
	tested, err := p.open(t).Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(tested.Said, "; "), `opened \\127.0.0.1\reports`)
	arrive(t, p)
	for secret, want := range map[string]string{"wrong": "password"} {
		bad := p
		bad.place.Secret = secret
		_, err := bad.open(t).Test(context.Background())
		f := fault.Of(err)
		assert.Equal(t, []any{fault.Lasting, fault.Destination}, []any{f.Class, f.Scope}, "%v", err)
		assert.Contains(t, f.Advice, want)
	}
	none := p
	none.place = settings(t, "smb", "slipway", map[string]any{"host": "127.0.0.1", "port": port, "share": "nowhere", "user": me.Username})
	_, err = none.open(t).Test(context.Background())
	assert.Contains(t, fault.Of(err).Advice, `no share "nowhere"`)
	_, err = deliver.Open(settings(t, "smb", "", map[string]any{"host": "x"}), deliver.Allowed{})
	assert.ErrorContains(t, err, "no share")
}
