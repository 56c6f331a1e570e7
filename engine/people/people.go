// Package people knows who uses Rudmar: handles, roles, sessions, and the
// secrets that are kept per stage.
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
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"

	"rudmar/engine/store"
)

// Roles.
const (
	Author   = "author"   // writes, pushes, asks for versions, deploys
	Approver = "approver" // approves, asks for versions, deploys
	Reader   = "reader"   // looks
)

// Ability is something that a role may do.
type Ability string

// The abilities.
const (
	Write   Ability = "write"   // push and commit
	Deploy  Ability = "deploy"  // run plans, ask for versions, go back
	Approve Ability = "approve" // say yes to a version
	Try     Ability = "try"     // call functions by hand
)

// Errors of signing in and of abilities.
var (
	ErrSignIn  = errors.New("the handle or the password is wrong")
	ErrAbility = errors.New("not allowed")
)

// SessionLength is how long somebody stays signed in.
const SessionLength = 12 * time.Hour

// Directory knows the people.
type Directory struct {
	store *store.Store
	seal  cipher.AEAD
	// fingerprints is the key of the fingerprints by which secrets are shown.
	fingerprints []byte
	cost         int

	mu sync.Mutex
	// checked remembers passwords that were right, as hashes over the kept
	// hash, since git and tools send one with every request.
	checked map[[sha256.Size]byte]bool
}

// Open opens the directory; the key that seals secrets lies in a file of the
// data folder and is made where there is none.
func Open(s *store.Store, dir string) (*Directory, error) {
	key, err := installationKey(filepath.Join(dir, "secret.key"))
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
	return &Directory{store: s, seal: seal, fingerprints: mac.Sum(nil), cost: bcrypt.DefaultCost, checked: map[[sha256.Size]byte]bool{}}, err
}

func installationKey(file string) ([]byte, error) {
	key, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		key = randomBytes(32)
		err = os.WriteFile(file, key, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the installation's key: %w", err)
	}
	return key, nil
}

func randomBytes(n int) []byte {
	b := make([]byte, n)
	if _, err := rand.Read(b); err != nil {
		panic(err) // the system gives no randomness: nothing can go on
	}
	return b
}

// May tells whether somebody has an ability; the error says who would.
func May(p store.Person, a Ability) error {
	allowed := map[Ability][]string{
		Write: {Author}, Deploy: {Author, Approver}, Approve: {Approver}, Try: {Author, Approver},
	}[a]
	if slices.Contains(allowed, p.Role) {
		return nil
	}
	return fmt.Errorf("%w: %s is a %s; this takes somebody who is %s", ErrAbility, p.Handle, p.Role, allowed[0])
}

// Add adds somebody, or changes their role and password.
func (d *Directory) Add(ctx context.Context, handle, role, password string, groups ...string) error {
	hash, err := bcrypt.GenerateFromPassword([]byte(password), d.cost)
	if err != nil {
		return fmt.Errorf("adding %s: %w", handle, err)
	}
	return d.store.AddPerson(ctx, store.Person{Handle: handle, Role: role, Groups: groups, Password: string(hash)})
}

// Check gives the person of a handle and password, or ErrSignIn.
func (d *Directory) Check(ctx context.Context, handle, password string) (store.Person, error) {
	p, err := d.store.Person(ctx, handle)
	if errors.Is(err, store.ErrNotFound) {
		// Take as long as for somebody who exists.
		_ = bcrypt.CompareHashAndPassword([]byte("$2a$10$7EqJtq98hPqEX7fNZaFWoOhi5rBvVhx8yJk3uZpM6yqfzJ0m0m0mu"), []byte(password))
		return p, ErrSignIn
	}
	if err != nil {
		return p, err
	}
	key := sha256.Sum256([]byte(p.Password + "\x00" + password))
	d.mu.Lock()
	right := d.checked[key]
	d.mu.Unlock()
	if right {
		return p, nil
	}
	if bcrypt.CompareHashAndPassword([]byte(p.Password), []byte(password)) != nil {
		return store.Person{}, ErrSignIn
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.checked) > 1000 {
		clear(d.checked)
	}
	d.checked[key] = true
	return p, nil
}

// Person gives somebody by handle.
func (d *Directory) Person(ctx context.Context, handle string) (store.Person, error) {
	return d.store.Person(ctx, handle)
}

// SignIn begins a session and gives its token.
func (d *Directory) SignIn(ctx context.Context, handle, password string) (token string, session store.Session, err error) {
	p, err := d.Check(ctx, handle, password)
	if err != nil {
		return "", session, err
	}
	token = hex.EncodeToString(randomBytes(24))
	session = store.Session{Handle: p.Handle, CSRF: hex.EncodeToString(randomBytes(16)), Until: d.store.Now().Add(SessionLength)}
	return token, session, d.store.AddSession(ctx, hashed(token), session)
}

// Session gives who a token belongs to.
func (d *Directory) Session(ctx context.Context, token string) (store.Person, store.Session, error) {
	session, err := d.store.Session(ctx, hashed(token))
	if err != nil {
		return store.Person{}, session, err
	}
	p, err := d.store.Person(ctx, session.Handle)
	return p, session, err
}

// SignOut ends a session.
func (d *Directory) SignOut(ctx context.Context, token string) error {
	return d.store.EndSession(ctx, hashed(token))
}

func hashed(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// FingerprintKey is the key of the fingerprints by which secrets are shown.
func (d *Directory) FingerprintKey() []byte { return d.fingerprints }

// SetSecret seals a value and keeps it for a stage.
func (d *Directory) SetSecret(ctx context.Context, service, stage, name, value, person string) error {
	nonce := randomBytes(d.seal.NonceSize())
	sealed := d.seal.Seal(nonce, nonce, []byte(value), []byte(service+"/"+stage+"/"+name))
	if err := d.store.PutSecret(ctx, service, stage, store.Sealed{Name: name, Value: sealed, Person: person}); err != nil {
		return fmt.Errorf("keeping the secret %s: %w", name, err)
	}
	return d.store.Note(ctx, store.Entry{Person: person, Service: service, Stage: stage, What: "secret set", Text: name})
}

// Secrets opens the values of a stage.
func (d *Directory) Secrets(ctx context.Context, service, stage string) (map[string]string, error) {
	rows, err := d.store.Secrets(ctx, service, stage)
	if err != nil {
		return nil, fmt.Errorf("reading secrets: %w", err)
	}
	out := map[string]string{}
	for _, r := range rows {
		n := d.seal.NonceSize()
		if len(r.Value) < n {
			return nil, fmt.Errorf("the secret %s is damaged", r.Name)
		}
		value, err := d.seal.Open(nil, r.Value[:n], r.Value[n:], []byte(service+"/"+stage+"/"+r.Name))
		if err != nil {
			return nil, fmt.Errorf("the secret %s cannot be opened with this installation's key: %w", r.Name, err)
		}
		out[r.Name] = string(value)
	}
	return out, nil
}
