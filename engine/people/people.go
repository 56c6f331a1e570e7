// Package people manages users: names, roles, sessions, tokens, and the secrets of stages.
package people

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	zxcvbn "github.com/ccojocar/zxcvbn-go"
	"golang.org/x/crypto/bcrypt"

	"github.com/google/renameio/v2"
	"rudmar/core/rights"
	"rudmar/engine/bell"
	"rudmar/engine/recent"
	"rudmar/engine/store"
)

// Errors of signing in and of people.
var (
	ErrSignIn   = errors.New("the username or password is wrong")
	ErrPassword = fmt.Errorf("a password must have at least %d characters", leastPassword)
	// ErrWeakPassword reports a password that is soon guessed.
	ErrWeakPassword = errors.New("this password is too easy to guess; use several unrelated words")
	ErrUsername     = errors.New("a username has 1 to 40 lowercase letters, digits and hyphens and starts with a letter")
	ErrRole         = errors.New("unknown role")
)

// leastPassword is the minimum number of characters of a password; mostPassword is how many bytes bcrypt reads
// of one.
const (
	leastPassword = 12
	mostPassword  = 72
)

// SessionLength is the duration of a session.
const SessionLength = 12 * time.Hour

// checkedPasswords is how many passwords that were right are remembered.
const checkedPasswords = 1000

// Directory manages users.
type Directory struct {
	store *store.Store
	seal  cipher.AEAD
	// fingerprints is the key of the fingerprints shown in place of secrets.
	fingerprints []byte
	cost         int

	// checked caches correct passwords, as hashes over the stored hash, because git and tools send one with
	// every request.
	checked *recent.Cache[[sha256.Size]byte, struct{}]
	guesses *guesses
	hashing *hashing

	addresses Addresses
	ended     bell.Bell // signaled when sessions may have ended
}

// KeyFile is the file of the key that encrypts secrets, in the data folder.
const KeyFile = "secret.key"

// HasKey reports whether the key that encrypts secrets is in a data folder.
func HasKey(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, KeyFile))
	return err == nil
}

// Option changes a directory.
type Option func(d *Directory)

// Behind trusts proxies to name the addresses of callers.
func Behind(proxies []netip.Prefix) Option {
	return func(d *Directory) { d.addresses = AddressesBehind(proxies) }
}

// From returns the address of a request's caller.
func (d *Directory) From(r *http.Request) string { return d.addresses(r) }

// Open opens the directory. The key that encrypts secrets is in a file of the data folder; if it is missing,
// Open creates it if that is allowed, otherwise the error is store.ErrKeyGone.
func Open(s *store.Store, dir string, newKey bool, options ...Option) (*Directory, error) {
	key, err := installationKey(filepath.Join(dir, KeyFile), newKey)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("reading the installation's key: %w", err)
	}
	seal, err := cipher.NewGCM(block)
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte("fingerprints of secrets"))
	d := &Directory{addresses: From, store: s, seal: seal, fingerprints: mac.Sum(nil), cost: bcrypt.DefaultCost,
		checked: recent.New[[sha256.Size]byte, struct{}](checkedPasswords),
		guesses: &guesses{now: s.Now, made: map[string]guess{}}, hashing: newHashing()}
	for _, change := range options {
		change(d)
	}
	return d, err
}

func installationKey(file string, mayMake bool) ([]byte, error) {
	key, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) && !mayMake {
		return nil, fmt.Errorf("%w: %s, which encrypts its secrets", store.ErrKeyGone, filepath.Base(file))
	}
	if errors.Is(err, os.ErrNotExist) {
		key = randomBytes(32)
		err = renameio.WriteFile(file, key, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the installation's key: %w", err)
	}
	return key, nil
}

func randomBytes(n int) []byte {
	b := make([]byte, n)
	if _, err := rand.Read(b); err != nil {
		panic(err) // without random numbers nothing can continue
	}
	return b
}

// NewUser has the fields of a user.
type NewUser struct {
	Username, Role string
	Places         []string // scopes of the role, as rights.ParseScope reads them; none for everywhere
	Groups         []string
	Password       string
}

// Grants returns the user's own rights. The error wraps rights.ErrScope.
func (w NewUser) Grants() ([]rights.Grant, error) {
	var out []rights.Grant
	places := w.Places
	if len(places) == 0 {
		places = []string{""}
	}
	for _, place := range places {
		in, err := rights.ParseScope(place)
		if err != nil {
			return nil, err
		}
		out = append(out, rights.Grant{Right: w.Role, In: in})
	}
	return out, nil
}

var handleForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// Add adds or changes a user; by is who does it. A change of password, role or places ends their sessions.
func (d *Directory) Add(ctx context.Context, w NewUser, by string) error {
	switch {
	case !handleForm.MatchString(w.Username):
		return fmt.Errorf("adding %q: %w", w.Username, ErrUsername)
	case !slices.Contains(rights.Roles(), w.Role):
		return fmt.Errorf("adding %s: %w: %q (expected %s)", w.Username, ErrRole, w.Role, strings.Join(rights.Roles(), ", "))
	}
	grants, err := w.Grants()
	if err != nil {
		return fmt.Errorf("adding %s: %w", w.Username, err)
	}
	hash, err := d.hash(ctx, w.Username, w.Password)
	if err != nil {
		return fmt.Errorf("adding %s: %w", w.Username, err)
	}
	return d.put(ctx, store.Person{Username: w.Username, Granted: grants, Groups: w.Groups, Password: hash},
		by, "user created")
}

// leastStrength is the minimum score of a password, of 0 to 4 (zxcvbn's estimate): 2 takes at least 10^6 guesses.
const leastStrength = 2

// checkPassword returns why a password is not accepted: it is short, contains the username, is one character or a word
// repeated, or common according to an estimator that ships lists of passwords and words.
func checkPassword(username, password string) error {
	if utf8.RuneCountInString(password) < leastPassword {
		return ErrPassword
	}
	lower := strings.ToLower(password)
	if strings.Contains(lower, strings.ToLower(username)) {
		return fmt.Errorf("%w: it contains the username", ErrWeakPassword)
	}
	score := zxcvbn.PasswordStrength(password, []string{username, "rudmar"}).Score
	if strings.Count(lower, lower[:1]) == len(lower) || score < leastStrength {
		return ErrWeakPassword
	}
	return nil
}

func (d *Directory) hash(ctx context.Context, username, password string) (string, error) {
	if err := checkPassword(username, password); err != nil {
		return "", err
	}
	if len(password) > mostPassword {
		return "", fmt.Errorf("a password can have at most %d bytes", mostPassword)
	}
	var hash []byte
	err := d.hashing.do(ctx, func() (err error) {
		hash, err = bcrypt.GenerateFromPassword([]byte(password), d.cost)
		return err
	})
	return string(hash), err
}

func (d *Directory) put(ctx context.Context, p store.Person, by, what string) error {
	if err := d.store.PutPerson(ctx, p, by, what); err != nil {
		return err
	}
	d.ended.Ring()
	return nil
}

// Change changes an existing user by calling change.
func (d *Directory) Change(ctx context.Context, username, by, what string, change func(p *store.Person) error) error {
	p, err := d.store.Person(ctx, username)
	if err != nil {
		return store.Missing(err, "user %q (rudmar user list shows all users)", username)
	}
	if err := change(&p); err != nil {
		return fmt.Errorf("changing %s: %w", username, err)
	}
	return d.put(ctx, p, by, what)
}

// Grant adds a right. Its subject and scope must exist: the error wraps store.ErrNotFound otherwise; a group exists
// once a user is in it.
func (d *Directory) Grant(ctx context.Context, r store.Right) error {
	if err := d.store.CheckScope(ctx, r.In); err != nil {
		return err
	}
	list, err := d.store.People(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(p store.Person) bool {
		return r.Kind == store.UserSubject && p.Username == r.Subject ||
			r.Kind == store.GroupSubject && slices.Contains(p.Groups, r.Subject)
	}) {
		return store.NotFound("%s %s not found; rudmar user list shows all users and groups", r.Kind, r.Subject)
	}
	defer d.ended.Ring()
	return d.store.Grant(ctx, r)
}

// Revoke removes a right.
func (d *Directory) Revoke(ctx context.Context, r store.Right) error {
	defer d.ended.Ring()
	return d.store.Revoke(ctx, r)
}

// SetPassword changes a password.
func (d *Directory) SetPassword(ctx context.Context, username, password, by string) error {
	return d.Change(ctx, username, by, "password changed", func(p *store.Person) error {
		var err error
		p.Password, err = d.hash(ctx, username, password)
		return err
	})
}

// Listen returns a channel that receives when sessions may have ended, until stop is called.
func (d *Directory) Listen() (wake <-chan struct{}, stop func()) { return d.ended.Listen() }

// knows reports whether a password is in the cache of correct ones and still valid.
func (d *Directory) knows(ctx context.Context, username, password string) bool {
	p, err := d.store.Person(ctx, username)
	if err != nil || p.Closed {
		return false
	}
	return d.checked.Contains(sha256.Sum256([]byte(p.Password + "\x00" + password)))
}

// Check returns the person of a username and password, or ErrSignIn.
func (d *Directory) Check(ctx context.Context, username, password string) (store.Person, error) {
	p, err := d.store.Person(ctx, username)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	none := err != nil || p.Closed
	hash := p.Password
	if none { // takes as long as for an open account
		hash = "$2a$10$7EqJtq98hPqEX7fNZaFWoOhi5rBvVhx8yJk3uZpM6yqfzJ0m0m0mu"
	}
	key := sha256.Sum256([]byte(hash + "\x00" + password))
	if _, right := d.checked.Get(key); right && !none {
		return p, nil
	}
	right := false
	if err := d.hashing.do(ctx, func() error {
		right = bcrypt.CompareHashAndPassword([]byte(hash), []byte(password)) == nil
		return nil
	}); err != nil {
		return store.Person{}, err
	}
	if none || !right {
		return store.Person{}, ErrSignIn
	}
	d.checked.Add(key, struct{}{})
	return p, nil
}

// Person returns a user by username.
func (d *Directory) Person(ctx context.Context, username string) (store.Person, error) {
	return d.store.Person(ctx, username)
}

// SignIn starts a user's session at an address, and returns its token.
func (d *Directory) SignIn(ctx context.Context, username, password, address string) (token string,
	session store.Session, err error) {
	p, err := d.Enter(ctx, username, password, address)
	if err == nil && p.Token != nil {
		err = fmt.Errorf("%w: a token does not sign in", rights.ErrDenied)
	}
	if err != nil {
		return "", session, err
	}
	token = hex.EncodeToString(randomBytes(24))
	session = store.Session{Username: p.Username, CSRF: hex.EncodeToString(randomBytes(16)),
		Until: d.store.Now().Add(SessionLength), Address: address}
	return token, session, d.store.AddSession(ctx, hashed(token), session)
}

// Session returns the user of a token.
func (d *Directory) Session(ctx context.Context, token string) (store.Person, store.Session, error) {
	session, err := d.store.Session(ctx, hashed(token))
	if err != nil {
		return store.Person{}, session, err
	}
	p, err := d.store.Person(ctx, session.Username)
	if err == nil && p.Closed {
		err = ErrSignIn
	}
	return p, session, err
}

// EndSession ends a session of a user by its ID.
func (d *Directory) EndSession(ctx context.Context, username string, id int64) error {
	defer d.ended.Ring()
	return d.store.EndOwnSession(ctx, username, id)
}

// ChangePassword changes a user's own password, at an address: the present one is checked as in signing in. All
// their sessions end.
func (d *Directory) ChangePassword(ctx context.Context, username, current, password, address string) error {
	p, err := d.Enter(ctx, username, current, address)
	if err == nil && p.Token != nil {
		err = fmt.Errorf("%w: a token cannot change the password", rights.ErrDenied)
	}
	if err != nil {
		return err
	}
	return d.SetPassword(ctx, username, password, username)
}

// SignOut ends a session.
func (d *Directory) SignOut(ctx context.Context, token string) error {
	defer d.ended.Ring()
	return d.store.EndSession(ctx, hashed(token))
}

func hashed(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// FingerprintKey is the key of the fingerprints by which secrets are shown.
func (d *Directory) FingerprintKey() []byte { return d.fingerprints }

// SetSecret encrypts a value and stores it for a stage.
func (d *Directory) SetSecret(ctx context.Context, service, stage, name, value, person string) error {
	sealed := d.Seal(value, service+"/"+stage+"/"+name)
	if err := d.store.PutSecret(ctx, service, stage, store.Sealed{Name: name, Value: sealed, Person: person}); err != nil {
		return fmt.Errorf("storing the secret %s: %w", name, err)
	}
	return nil
}

// Secrets opens the values of a stage.
func (d *Directory) Secrets(ctx context.Context, service, stage string) (map[string]string, error) {
	rows, err := d.store.Secrets(ctx, service, stage)
	if err != nil {
		return nil, fmt.Errorf("reading secrets: %w", err)
	}
	out := map[string]string{}
	for _, r := range rows {
		value, err := d.Unseal(r.Value, service+"/"+stage+"/"+r.Name)
		if err != nil {
			return nil, fmt.Errorf("the secret %s: %w", r.Name, err)
		}
		out[r.Name] = value
	}
	return out, nil
}

// Seal encrypts a text with the installation's key, bound to its subject: for another subject it cannot be
// decrypted.
func (d *Directory) Seal(text, about string) []byte {
	nonce := randomBytes(d.seal.NonceSize())
	return d.seal.Seal(nonce, nonce, []byte(text), []byte(about))
}

// Unseal decrypts a text that Seal encrypted.
func (d *Directory) Unseal(sealed []byte, about string) (string, error) {
	n := d.seal.NonceSize()
	if len(sealed) < n {
		return "", errors.New("damaged")
	}
	text, err := d.seal.Open(nil, sealed[:n], sealed[n:], []byte(about))
	if err != nil {
		return "", fmt.Errorf("it cannot be decrypted with this installation's key: %w", err)
	}
	return string(text), nil
}
