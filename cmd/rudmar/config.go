package main

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/mail"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/google/renameio/v2"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"rudmar/engine"
	"rudmar/engine/notice"
)

// usualLook is the default interval between comparisons of the actual and the recorded state.
const usualLook = 3 * time.Second

// config contains all settings and their defaults.
type config struct {
	demo           bool // this is the demo
	plays          bool // whether its traffic continues
	data           string
	listen         string
	platformListen string
	routesListen   string
	platform       string
	tokenFile      string
	buildsUncaged  bool
	noticesInside  bool
	proxies        []string
	mail           notice.Mail
	mailPassword   string // a file
	newKeys        bool
	keep           engine.Keep
	registries     []string
	routesAddress  string
	address        string
	lookEvery      time.Duration
	idle           time.Duration
	python         string
	verbose        bool
	quiet          bool // nothing is logged: the command's own output matters

	server, username, passwordFile, ownTokenFile string
	typed                                        string // the password, if it was typed

	platformAt string // the platform's address, once it responds
}

func (c *config) dataFlag(f *pflag.FlagSet, value string) {
	f.StringVar(&c.data, "data", value, "folder for all data")
}

func (c *config) serveFlags(f *pflag.FlagSet) {
	f.StringVar(&c.listen, "listen", "127.0.0.1:7070", "listen address of the page, the API and git")
	f.StringVar(&c.address, "address", "", "public address of the page (default http:// and the listen address)")
	f.StringVar(&c.platform, "platform", "",
		"address of a separate platform (default the local platform in this process)")
	f.BoolVar(&c.buildsUncaged, "builds-uncaged", false,
		"run build commands without isolation if this machine cannot isolate them; anyone who can push can then read Rudmar's keys")
	f.StringSliceVar(&c.registries, "registries", nil,
		"additional hosts that builds can fetch from, besides the registries that go, npm and pip use on this machine")
	f.BoolVar(&c.newKeys, "new-keys", false,
		"create new keys if the ones that encrypt secrets and sign versions are missing; all secrets must then be set again, and older versions can no longer be verified")
	f.StringSliceVar(&c.proxies, "trusted-proxy", nil,
		"address or network (CIDR) of a proxy whose X-Forwarded-For header names the callers; repeatable")
	f.BoolVar(&c.noticesInside, "notifications-inside", false,
		"allow notifications to addresses of this machine and of private networks")
	f.StringVar(&c.mail.Server, "mail-server", "", "mail server as host:port; no email is sent without one")
	f.StringVar(&c.mail.From, "mail-from", "", "sender address of email")
	f.StringVar(&c.mail.User, "mail-user", "", "username at the mail server, if it requires one")
	f.StringVar(&c.mailPassword, "mail-password-file", "", "file with the password for the mail server")
	f.BoolVar(&c.mail.Plain, "mail-plain", false, "send email even if the mail server offers no TLS")
	c.keepFlags(f)
	durationVar(f, &c.lookEvery, "observe-every", usualLook, "interval between comparisons of actual and recorded state")
	c.platformFlags(f)
}

func (c *config) platformFlags(f *pflag.FlagSet) {
	f.StringVar(&c.platformListen, "platform-listen", "127.0.0.1:7071", "listen address of the local platform's protocol")
	f.StringVar(&c.routesListen, "routes-listen", "127.0.0.2:7072",
		"listen address of function routes on the local platform")
	c.tokenFlag(f)
	f.StringVar(&c.routesAddress, "routes-address", "",
		"public address of function routes (default http:// and their listen address); use a separate host name, because browsers share cookies by host name")
	durationVar(f, &c.idle, "idle", 5*time.Minute, "time that the local platform keeps an idle instance")
	f.StringVar(&c.python, "python", "/usr/bin/python3", "Python interpreter of the local platform")
	f.BoolVar(&c.verbose, "verbose", false, "log every request")
}

func (c *config) tokenFlag(f *pflag.FlagSet) {
	f.StringVar(&c.tokenFile, "platform-token-file", "",
		"file with the token that Rudmar and the platform share; also RUDMAR_PLATFORM_TOKEN (default a token in the data folder)")
}

func (c *config) clientFlags(f *pflag.FlagSet) {
	f.StringVar(&c.server, "server", "",
		"address of Rudmar (default the one of rudmar login, otherwise "+usualServer+")")
	f.StringVar(&c.username, "username", "", "username, to sign in with a password instead of the token of rudmar login")
	f.StringVar(&c.ownTokenFile, "token-file", "", "file with a token; also RUDMAR_TOKEN")
	f.StringVar(&c.passwordFile, "password-file", "", "file with your password; also RUDMAR_PASSWORD")
}

// mailServer returns the mail server of notifications, with its password.
func (c *config) mailServer() (notice.Mail, error) {
	m := c.mail
	if m.Server == "" {
		return m, nil
	}
	if _, err := mail.ParseAddress(m.From); err != nil {
		return m, coded{exitUsage, fmt.Errorf("--mail-server requires --mail-from, the sender address: %w", err)}
	}
	if _, _, err := net.SplitHostPort(m.Server); err != nil {
		return m, coded{exitUsage, fmt.Errorf("--mail-server must be host:port: %w", err)}
	}
	if c.mailPassword != "" {
		text, err := secretIn(c.mailPassword)
		if err != nil {
			return m, fmt.Errorf("reading the mail server's password: %w", err)
		}
		m.Password = text
	}
	return m, nil
}

// trustedProxies reads --trusted-proxy.
func (c *config) trustedProxies() ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, text := range c.proxies {
		prefix, err := netip.ParsePrefix(text)
		if err != nil {
			address, addressErr := netip.ParseAddr(text)
			if addressErr != nil {
				return nil, coded{exitUsage, fmt.Errorf("--trusted-proxy %q is neither an address nor a network such as 10.0.0.0/8", text)}
			}
			prefix = netip.PrefixFrom(address, address.BitLen())
		}
		out = append(out, prefix)
	}
	return out, nil
}

// secretIn reads a file with a password or token, without surrounding whitespace.
func secretIn(file string) (string, error) {
	text, err := os.ReadFile(file)
	return strings.TrimSpace(string(text)), err
}

// environment sets flags that are not on the command line from RUDMAR_… variables.
func environment(c *cobra.Command, _ []string) error {
	errs := checkFormerVariables()
	c.Flags().VisitAll(func(f *pflag.Flag) {
		name := "RUDMAR_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if value, ok := os.LookupEnv(name); ok && !f.Changed {
			if err := f.Value.Set(value); err != nil {
				errs = errors.Join(errs, coded{exitUsage, fmt.Errorf("%s: %w", name, err)})
			}
		}
	})
	return errs
}

func (c *config) logger() *slog.Logger {
	if c.quiet {
		return slog.New(slog.DiscardHandler)
	}
	level := slog.LevelInfo
	if c.verbose {
		level = slog.LevelDebug
	}
	return slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
}

// token returns the token between Rudmar and the platform, which the first start creates.
func (c *config) token() (string, error) {
	if token := os.Getenv("RUDMAR_PLATFORM_TOKEN"); token != "" {
		return token, nil
	}
	file := filepath.Join(c.data, "platform.token")
	if c.tokenFile != "" {
		file = c.tokenFile
	}
	text, err := secretIn(file)
	if errors.Is(err, os.ErrNotExist) && c.tokenFile == "" {
		text = randomWord()
		err = errors.Join(os.MkdirAll(c.data, 0o700), renameio.WriteFile(file, []byte(text), 0o600))
	}
	if err != nil {
		return "", fmt.Errorf("reading the platform's token: %w", err)
	}
	return text, nil
}

// randomWord returns 192 random bits as text.
func randomWord() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // documented never to fail
	return hex.EncodeToString(b)
}

// knownToken is token for commands that only read: they create none.
func (c *config) knownToken() (string, error) {
	if c.tokenFile == "" && os.Getenv("RUDMAR_PLATFORM_TOKEN") == "" {
		if _, err := os.Stat(filepath.Join(c.data, "platform.token")); err != nil {
			return "", fmt.Errorf(
				"no platform token in %s: set --data (the demo's folder is demo-data) or --platform-token-file", c.data)
		}
	}
	return c.token()
}

// password returns the password of the flags: from the environment or from a file,
// never from a flag, which everybody on the machine can read.
func (c *config) password() (string, error) {
	if c.typed != "" {
		return c.typed, nil
	}
	if c.passwordFile == "" {
		return os.Getenv("RUDMAR_PASSWORD"), nil
	}
	text, err := os.ReadFile(c.passwordFile)
	if err != nil {
		return "", fmt.Errorf("reading your password: %w", err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

// dataFolder creates the data folder, or restricts its permissions to this user, and reports what it changes.
func (c *config) dataFolder(log *slog.Logger) error {
	whole, err := filepath.Abs(c.data) // commands that run in other folders receive the absolute path
	if err != nil {
		return fmt.Errorf("finding the data folder: %w", err)
	}
	c.data = whole
	if err := os.MkdirAll(c.data, 0o700); err != nil {
		return fmt.Errorf("creating the data folder: %w", err)
	}
	info, err := os.Stat(c.data)
	if err != nil {
		return fmt.Errorf("reading the data folder: %w", err)
	}
	if owner, ok := info.Sys().(*syscall.Stat_t); ok && int(owner.Uid) != os.Geteuid() && os.Geteuid() != 0 {
		return fmt.Errorf("the data folder %s belongs to another user, who could read and change its contents; set --data to a folder of your own", c.data)
	}
	mended := 0
	err = filepath.WalkDir(c.data, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name != c.data && d.IsDir() &&
			slices.Contains([]string{"repositories", "run", "work", "artifacts", "compiled"}, d.Name()) {
			return fs.SkipDir // files of git, builds and compilers, in a folder that only this user can open
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || d.Type()&fs.ModeSymlink != 0 || info.Mode().Perm()&0o077 == 0 {
			return err
		}
		mended++
		return os.Chmod(name, info.Mode().Perm()&0o700)
	})
	if err != nil {
		return fmt.Errorf("restricting access to the data folder: %w", err)
	}
	if mended > 0 {
		log.Warn("other users of this machine could read the data folder; access is now restricted", "folder", c.data, "changed", mended)
	}
	return nil
}
