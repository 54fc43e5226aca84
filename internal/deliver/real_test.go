package deliver_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha1" // the form of the server's list of passwords
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/deliver"
	"ironbell/internal/freeport"
	"ironbell/internal/outgoing"
	"ironbell/standin/gate"
	"ironbell/standin/web"

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
	port, err := freeport.Find(context.Background())
	require.NoError(t, err)
	cmd := start(port)
	var said strings.Builder
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = &said, &said, time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		// Its children go with it.
		end := time.AfterFunc(5*time.Second, func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		_ = cmd.Wait()
		end.Stop()
	})
	for range 400 {
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			_ = c.Close()
			return port
		}
		time.Sleep(50 * time.Millisecond)
	}
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	_ = cmd.Wait() // then all that it said is there
	t.Fatalf("the server does not answer: %s: %s", cmd.Args, said.String())
	return 0
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
	config := fmt.Sprintf("ListenAddress 127.0.0.1\nHostKey %s/host\nAuthorizedKeysFile %s/authorized\nPidFile "+
		"none\nStrictModes no\nPermitRootLogin yes\nPasswordAuthentication no\nSubsystem sftp internal-sftp\n", dir,
		dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte(config), 0o600))
	port := serve(t, func(port int) *exec.Cmd {
		return exec.Command(sshd, "-D", "-e", "-f", filepath.Join(dir, "config"), "-p", fmt.Sprint(port))
	})
	me, err := user.Current()
	require.NoError(t, err)
	p := place{
		place: settings(t, "sftp", string(mine), map[string]any{
			"host": "127.0.0.1", "port": port, "user": me.Username, "folder": files,
		}), content: onDisk(files),
	}
	tested, err := p.open(t).Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(tested.Said, "; "), "OpenSSH")
	p.place.Pin = tested.Pin
	arrive(t, p)
	crowd(t, p.open(t), p)
	p.place.Secret = "a password"
	_, err = p.open(t).Test(context.Background())
	assert.Equal(t, fault.Lasting, fault.Of(err).Class, "%v", err)
}

// sshServer runs OpenSSH with a host key of each kind, and gives their fingerprints.
func sshServer(t *testing.T, mine ssh.PublicKey, more string) (port int, keys map[string]string) {
	t.Helper()
	sshd := real(t, "/usr/sbin/sshd")
	dir := t.TempDir()
	var config strings.Builder
	keys = map[string]string{}
	for _, kind := range []string{"rsa", "ecdsa", "ed25519"} {
		at := filepath.Join(dir, kind)
		text, err := exec.Command("ssh-keygen", "-q", "-t", kind, "-N", "", "-f", at).CombinedOutput()
		require.NoError(t, err, string(text))
		public, err := os.ReadFile(at + ".pub")
		require.NoError(t, err)
		key, _, _, _, err := ssh.ParseAuthorizedKey(public)
		require.NoError(t, err)
		keys[kind] = ssh.FingerprintSHA256(key)
		fmt.Fprintf(&config, "HostKey %s\n", at)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authorized"), ssh.MarshalAuthorizedKey(mine), 0o600))
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	fmt.Fprintf(&config,
		"ListenAddress 127.0.0.1\nAuthorizedKeysFile %s/authorized\nPidFile none\nStrictModes no\nPermitRootLogin "+
			"yes\nPasswordAuthentication no\nMaxAuthTries 2\nMaxStartups 100\nSubsystem sftp internal-sftp %s\n", dir,
		more)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte(config.String()), 0o600))
	return serve(t, func(port int) *exec.Cmd {
		return exec.Command(sshd, "-D", "-e", "-f", filepath.Join(dir, "config"), "-p", fmt.Sprint(port))
	}), keys
}

// login makes a key to sign in with.
func login(t *testing.T) (private string, public ssh.PublicKey) {
	t.Helper()
	_, k, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(k, "mine")
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(k)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block)), signer.PublicKey()
}

// A server has keys of several kinds and shows the one that it is asked for: whichever is
// pinned, it is the right server.
func TestAnyKeyOfAServerMayBePinned(t *testing.T) {
	mine, public := login(t)
	port, keys := sshServer(t, public, "")
	me, err := user.Current()
	require.NoError(t, err)
	files := t.TempDir()
	open := func(key, secret string) (deliver.Destination, error) {
		return deliver.Open(settings(t, "sftp", secret, map[string]any{
			"host": "127.0.0.1", "port": port, "user": me.Username, "folder": files, "host_key": key,
		}), deliver.Allowed{})
	}
	elsewhere := "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
	for kind, key := range keys {
		for _, pins := range []string{key, elsewhere + " " + key, key + ", " + elsewhere} {
			d, err := open(pins, mine)
			require.NoError(t, err)
			for range 2 { // the second time it is asked for at once
				tested, err := d.Test(context.Background())
				require.NoError(t, err, kind)
				assert.Contains(t, tested.Said, "host key "+key)
			}
		}
	}
	d, err := open(elsewhere, mine)
	require.NoError(t, err)
	_, err = d.Test(context.Background())
	f := fault.Of(err)
	assert.Equal(t, []any{fault.Lasting, fault.Destination}, []any{f.Class, f.Scope})
	for _, key := range keys {
		assert.Contains(t, f.Error(), key, "all its keys are named")
	}
	assert.Contains(t, f.Advice, "Somebody may stand between")
	_, err = open("MD5:aa:bb", mine)
	assert.ErrorContains(t, err, "does not begin with SHA256:")
	d, err = open(keys["rsa"], "a password, which it takes from nobody")
	require.NoError(t, err)
	_, err = d.Test(context.Background())
	f = fault.Of(err)
	assert.Contains(t, f.Error(), "takes none of our ways to sign in")
	assert.Contains(t, f.Advice, "private key")
}

// Servers that forbid what is usual are told apart by the test, which names the setting
// that makes them of use.
func TestServersThatForbidAreToldApart(t *testing.T) {
	mine, public := login(t)
	me, err := user.Current()
	require.NoError(t, err)
	for name, c := range map[string]struct {
		forbid        string // requests of the protocol
		without, want string // what the test says
		ways          map[string]any
		said          string // what it says with the setting
	}{
		"to rename": {
			"rename,posix-rename", "does not let us rename", "set writing of the destination to direct",
			map[string]any{"writing": "direct"},
			"read it back, the same",
		},
		"to look": {
			"stat,lstat,fstat,opendir,readdir", "cannot be looked at",
			"set looking of the destination to no",
			map[string]any{"looking": "no"},
			"nothing was read back",
		},
		"to read":   {"read", "", "", nil, "may not read it back"},
		"to remove": {"remove", "", "", nil, "may not remove it"},
		"all but to put": {
			"stat,lstat,fstat,opendir,readdir,read,rename,posix-rename,remove,mkdir",
			"cannot be looked at", "set looking",
			map[string]any{"looking": "no", "writing": "direct"},
			"it stays there",
		},
	} {
		t.Run(name, func(t *testing.T) {
			port, _ := sshServer(t, public, "-P "+c.forbid)
			files := t.TempDir()
			open := func(ways map[string]any) deliver.Destination {
				set := map[string]any{"host": "127.0.0.1", "port": port, "user": me.Username, "folder": files}
				for name, value := range ways {
					set[name] = value
				}
				p := settings(t, "sftp", mine, set)
				d, err := deliver.Open(p, deliver.Allowed{})
				require.NoError(t, err)
				tested, err := d.Test(context.Background())
				if tested.Pin == "" {
					// It is pinned by a test that fails, too.
					require.Error(t, err)
				}
				if c.without != "" && ways == nil {
					f := fault.Of(err)
					assert.Equal(t, []any{fault.Lasting, fault.Destination}, []any{f.Class, f.Scope}, "%v", err)
					assert.Contains(t, f.Error(), c.without)
					assert.Contains(t, f.Advice, c.want)
					return nil
				}
				require.NoError(t, err)
				assert.Contains(t, strings.Join(tested.Said, "; "), c.said)
				p.Pin = tested.Pin
				d, err = deliver.Open(p, deliver.Allowed{})
				require.NoError(t, err)
				return d
			}
			if c.without != "" {
				open(nil)
			}
			d := open(c.ways)
			res, err := put(t, d, handover(1, "day sheet.csv", "code\nPEN\n", "overwrite"))
			require.NoError(t, err)
			assert.True(t, res.Offered && res.Answered)
			text, err := os.ReadFile(filepath.Join(files, "day sheet.csv"))
			require.NoError(t, err)
			assert.Equal(t, "code\nPEN\n", string(text))
			res, err = put(t, d, handover(2, "day sheet.csv", "code\nGRE\n", "number"))
			if c.ways["looking"] == "no" {
				assert.ErrorContains(t, err, "looks for nothing")
				assert.False(t, res.Offered)
				res, err = put(t, d, handover(3, "day sheet.csv", "code\nGRE\n", "stamp"))
				require.NoError(t, err)
				assert.Equal(t, "day sheet 2026-11-23 06.15.00.csv", res.To)
			} else {
				require.NoError(t, err)
				assert.Equal(t, "day sheet (2).csv", res.To)
			}
			if c.forbid == "rename,posix-rename" { // as the test would have said
				_, err := put(t, func() deliver.Destination {
					p := settings(t, "sftp", mine, map[string]any{
						"host": "127.0.0.1", "port": port, "user": me.Username, "folder": files, "host_key": "",
					})
					first, err := deliver.Open(p, deliver.Allowed{})
					require.NoError(t, err)
					tested, _ := first.Test(context.Background())
					p.Pin = tested.Pin
					d, err := deliver.Open(p, deliver.Allowed{})
					require.NoError(t, err)
					return d
				}(), handover(4, "other.csv", "x", "overwrite"))
				assert.Contains(t, fault.Of(err).Advice, "set writing of the destination to direct")
			}
			left, err := filepath.Glob(filepath.Join(files, ".ironbell-*.part"))
			require.NoError(t, err)
			if !strings.Contains(c.forbid, "remove") {
				assert.Empty(t, left)
			}
		})
	}
}

// A file that may not be written over stands as it was, however it was to be written.
func TestARefusedFileIsNotRemoved(t *testing.T) {
	mine, public := login(t)
	me, err := user.Current()
	require.NoError(t, err)
	port, keys := sshServer(t, public, "-P open")
	for _, looking := range []string{"yes", "no"} {
		files := t.TempDir()
		at := filepath.Join(files, "day sheet.csv")
		require.NoError(t, os.WriteFile(at, []byte("of yesterday"), 0o600))
		d, err := deliver.Open(settings(t, "sftp", mine, map[string]any{
			"host": "127.0.0.1", "port": port, "user": me.Username, "folder": files, "host_key": keys["ed25519"],
			"writing": "direct", "looking": looking,
		}), deliver.Allowed{})
		require.NoError(t, err)
		res, err := put(t, d, handover(1, "day sheet.csv", "of today", "overwrite"))
		require.Error(t, err)
		assert.True(t, res.Offered && res.Answered)
		text, err := os.ReadFile(at)
		require.NoError(t, err, "it is still there")
		assert.Equal(t, "of yesterday", string(text))
	}
}

func TestFilesArriveAtSamba(t *testing.T) {
	smbd := real(t, "/usr/sbin/smbd")
	dir, files := t.TempDir(), t.TempDir()
	var config strings.Builder
	config.WriteString("[global]\nserver role = standalone server\ninterfaces = lo\nbind interfaces only = yes\nload " +
		"printers = no\ndisable spoolss = yes\nserver min protocol = SMB2_10\nlog level = 0\n")
	for _, name := range []string{
		"private dir", "lock directory", "state directory", "cache directory",
		"pid directory", "ncalrpc dir",
	} {
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
	var smb *exec.Cmd
	port := serve(t, func(port int) *exec.Cmd {
		smb = exec.Command(smbd, "--foreground", "--no-process-group", "--debug-stdout", "-s", conf, "-p",
			fmt.Sprint(port))
		return smb
	})
	p := place{
		place: settings(t, "smb", "slipway", map[string]any{
			"host": "127.0.0.1", "port": port, "share": "reports", "user": me.Username,
		}), content: onDisk(files),
	}
	tested, err := p.open(t).Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(tested.Said, "; "), `opened \\127.0.0.1\reports`)
	arrive(t, p)
	crowd(t, p.open(t), p)
	for secret, want := range map[string]string{"wrong": "password"} {
		bad := p
		bad.place.Secret = secret
		_, err := bad.open(t).Test(context.Background())
		f := fault.Of(err)
		assert.Equal(t, []any{fault.Lasting, fault.Destination}, []any{f.Class, f.Scope}, "%v", err)
		assert.Contains(t, f.Advice, want)
	}
	none := p
	none.place = settings(t, "smb", "slipway", map[string]any{
		"host": "127.0.0.1", "port": port, "share": "nowhere", "user": me.Username,
	})
	_, err = none.open(t).Test(context.Background())
	assert.Contains(t, fault.Of(err).Advice, `no share "nowhere"`)
	// with what serves this line
	diesUnder(t, p.open(t), func() { _ = syscall.Kill(-smb.Process.Pid, syscall.SIGKILL) })
	_, err = deliver.Open(settings(t, "smb", "", map[string]any{"host": "x"}), deliver.Allowed{})
	assert.ErrorContains(t, err, "no share")
}

// shown writes a certificate that a server shows, and gives the one to trust.
func shown(t *testing.T, dir string) (ca string) {
	t.Helper()
	cert, ca, err := gate.Certificate()
	require.NoError(t, err)
	key, err := x509.MarshalPKCS8PrivateKey(cert.PrivateKey)
	require.NoError(t, err)
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Certificate[0]}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})...)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "both.pem"), text, 0o600))
	return ca
}

// given gives a folder to a system's user.
func given(t *testing.T, dir, name string) {
	t.Helper()
	u, err := user.Lookup(name)
	require.NoError(t, err)
	uid, err := strconv.Atoi(u.Uid)
	require.NoError(t, err)
	gid, err := strconv.Atoi(u.Gid)
	require.NoError(t, err)
	require.NoError(t, os.Chown(dir, uid, gid))
	for up := dir; up != os.TempDir() && up != "/"; up = filepath.Dir(up) {
		require.NoError(t, os.Chmod(up, 0o755))
	}
}

// refusesAll holds a place that signs in over TLS against a wrong password and a
// certificate that nobody trusts.
func refusesAll(t *testing.T, p place, untrusting func(p *place)) {
	t.Helper()
	bad := p
	bad.place.Secret = "wrong"
	_, err := bad.open(t).Test(context.Background())
	f := fault.Of(err)
	assert.Equal(t, []any{fault.Lasting, fault.Destination}, []any{f.Class, f.Scope}, "%v", err)
	assert.Contains(t, f.Advice, "password")
	bad = p
	untrusting(&bad)
	_, err = put(t, bad.open(t), handover(9, "secret.csv", "x", ""))
	f = fault.Of(err)
	assert.Equal(t, []any{fault.Lasting, fault.Destination}, []any{f.Class, f.Scope}, "%v", err)
	assert.Contains(t, f.Error(), "certificate")
	_, there := p.content(t, "secret.csv")
	assert.False(t, there)
}

// It wants the data to come over the session of the commands, as most servers do.
func TestFilesArriveAtVsftpd(t *testing.T) {
	vsftpd := real(t, "/usr/sbin/vsftpd")
	dir, files := t.TempDir(), t.TempDir()
	ca := shown(t, dir)
	// The server wants a root that its user cannot write to.
	given(t, files, "root")
	require.NoError(t, os.Mkdir(filepath.Join(files, "in"), 0o755))
	given(t, filepath.Join(files, "in"), "ftp")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "passwords"), []byte("slipway\n"), 0o600))
	require.NoError(t, os.MkdirAll("/var/run/vsftpd/empty", 0o755))
	port := serve(t, func(port int) *exec.Cmd {
		config := fmt.Sprintf(`listen=YES
listen_address=127.0.0.1
listen_port=%d
background=NO
anonymous_enable=YES
anon_root=%s
anon_upload_enable=YES
anon_mkdir_write_enable=YES
anon_other_write_enable=YES
anon_world_readable_only=NO
anon_umask=022
secure_email_list_enable=YES
email_password_file=%s/passwords
write_enable=YES
ssl_enable=YES
allow_anon_ssl=YES
force_anon_logins_ssl=YES
force_anon_data_ssl=YES
require_ssl_reuse=YES
ssl_ciphers=HIGH
rsa_cert_file=%s/both.pem
rsa_private_key_file=%s/both.pem
seccomp_sandbox=NO
`, port, files, dir, dir, dir)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte(config), 0o600))
		return exec.Command(vsftpd, filepath.Join(dir, "config"))
	})
	set := map[string]any{"host": "127.0.0.1", "port": port, "user": "ftp", "folder": "/in", "ca": ca}
	p := place{place: settings(t, "ftp", "slipway", set), content: onDisk(filepath.Join(files, "in"))}
	tested, err := p.open(t).Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(tested.Said, "; "), "over TLS; signed in as ftp")
	arrive(t, p)
	crowd(t, p.open(t), p)
	refusesAll(t, p, func(p *place) {
		delete(set, "ca")
		p.place = settings(t, "ftp", "slipway", set)
	})
}

func TestFilesArriveAtApache(t *testing.T) {
	apache := real(t, "/usr/sbin/apache2")
	dir, files := t.TempDir(), t.TempDir()
	ca := shown(t, dir)
	given(t, files, "www-data")
	given(t, dir, "www-data")
	sum := sha1.Sum([]byte("slipway"))
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "passwords"),
			[]byte("ironbell:{SHA}"+base64.StdEncoding.EncodeToString(sum[:])+"\n"), 0o644))
	port := serve(t, func(port int) *exec.Cmd {
		var config strings.Builder
		for _, m := range []string{
			"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic",
			"dav", "dav_fs", "ssl",
		} {
			fmt.Fprintf(&config, "LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
		}
		fmt.Fprintf(&config, `ServerName localhost
ServerRoot %[1]s
DefaultRuntimeDir %[1]s
Listen 127.0.0.1:%[2]d
PidFile %[1]s/pid
ErrorLog %[1]s/log
User www-data
Group www-data
DocumentRoot %[3]s
DavLockDB %[1]s/locks
SSLEngine on
SSLCertificateFile %[1]s/both.pem
<Directory %[3]s>
Dav On
AuthType Basic
AuthName reports
AuthUserFile %[1]s/passwords
Require valid-user
</Directory>
`, dir, port, files)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte(config.String()), 0o600))
		return exec.Command(apache, "-f", filepath.Join(dir, "config"), "-DFOREGROUND")
	})
	set := map[string]any{"url": fmt.Sprintf("https://127.0.0.1:%d/", port), "user": "ironbell", "ca": ca}
	p := place{
		place: settings(t, "webdav", "slipway", set), content: onDisk(files),
		allowed: deliver.Allowed{Guard: outgoing.New([]string{fmt.Sprintf("127.0.0.1:%d", port)})},
	}
	_, err := p.open(t).Test(context.Background())
	require.NoError(t, err)
	arrive(t, p)
	crowd(t, p.open(t), p)
	refusesAll(t, p, func(p *place) {
		delete(set, "ca")
		p.place = settings(t, "webdav", "slipway", set)
	})
}

func TestPagesArriveAtCUPS(t *testing.T) {
	cupsd := real(t, "/usr/sbin/cupsd")
	dir := t.TempDir()
	given(t, dir, "lp")
	// It hands on to the stand-in, which an ordinary client tries that way.
	paper, err := web.StartPrinter("printer", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(paper.Close)
	for _, name := range []string{"cache", "state", "spool", "temp", "bin"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
		given(t, filepath.Join(dir, name), "lp")
	}
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("printers.conf",
		"<Printer quay>\nDeviceURI ipp://"+paper.Address()+
			"/ipp/print\nState Idle\nAccepting Yes\nShared Yes\n</Printer>\n")
	write("cups-files.conf", fmt.Sprintf(`FileDevice Yes
User lp
Group lp
ServerRoot %[1]s
CacheDir %[1]s/cache
StateDir %[1]s/state
RequestRoot %[1]s/spool
TempDir %[1]s/temp
DocumentRoot %[1]s
AccessLog %[1]s/access
ErrorLog %[1]s/log
PageLog %[1]s/pages
`, dir))
	port := serve(t, func(port int) *exec.Cmd {
		write("cupsd.conf",
			fmt.Sprintf("Listen 127.0.0.1:%d\nDefaultAuthType None\nBrowsing No\nWebInterface No\n<Location "+
				"/>\nAllow all\n</Location>\n<Policy default>\n<Limit All>\n</Limit>\n</Policy>\n", port))
		return exec.Command(cupsd, "-f", "-c", filepath.Join(dir, "cupsd.conf"), "-s",
			filepath.Join(dir, "cups-files.conf"))
	})
	at := fmt.Sprintf("127.0.0.1:%d", port)
	allowed := deliver.Allowed{Guard: outgoing.New([]string{at})}
	d, err := deliver.Open(settings(t, "ipp", "", map[string]any{"url": "ipp://" + at + "/printers/quay"}), allowed)
	require.NoError(t, err)
	tested, err := d.Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(tested.Said, "; "), "idle")
	h := handover(1, "Day sheet.txt", "Port day sheet of Grey Skerry\n", "")
	h.MediaType = "text/plain"
	res, err := put(t, d, h)
	require.NoError(t, err)
	assert.Equal(t, "the printer took it as its job 1", res.Answer)
	printed := func() bool { return len(paper.All()) == 1 }
	for end := time.Now().Add(20 * time.Second); !printed() &&
		time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
	}
	if !printed() {
		said, _ := os.ReadFile(filepath.Join(dir, "log")) // for whoever reads why
		t.Fatalf("it is not printed: %s", said)
	}
	assert.Equal(t, "Port day sheet of Grey Skerry\n", string(paper.All()[0].Content))
	none, err := deliver.Open(settings(t, "ipp", "", map[string]any{"url": "ipp://" + at + "/printers/nowhere"}),
		allowed)
	require.NoError(t, err)
	_, err = none.Test(context.Background())
	assert.Equal(t, fault.Destination, fault.Of(err).Scope, "%v", err)
}
