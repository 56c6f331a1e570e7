package people

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"rudmar/core/rights"
	"rudmar/engine/store"
)

// tokenMark is the prefix of every token, so a leaked one is recognizable.
const tokenMark = "rudmar_"

// How long tokens last, in days.
const (
	UsualDays = 90
	MostDays  = 365
)

// Errors of tokens.
var (
	ErrTokenWish = errors.New("invalid token request")
	ErrToken     = errors.New("unknown or expired token")
)

// NewToken has the fields of a new token.
type NewToken struct {
	Name        string
	Permissions []string // named as in core/rights; always including view
	In          []string // scopes, as rights.ParseScope reads them; everywhere if there is none
	Days        int      // 1 to MostDays; 0 for UsualDays
}

var tokenName = regexp.MustCompile(`^[\pL\pN][\pL\pN ._@-]{0,59}$`)

// CreateToken creates a user's token, and returns its text, which is not stored and shown only once. The error
// wraps ErrTokenWish, rights.ErrDenied or store.ErrTokenNamed.
func (d *Directory) CreateToken(ctx context.Context, p store.Person, w NewToken) (string, store.Token, error) {
	if w.Days == 0 {
		w.Days = UsualDays
	}
	switch {
	case !tokenName.MatchString(w.Name):
		return "", store.Token{}, fmt.Errorf("%w: a name has 1 to 60 letters, digits, spaces and . _ @ -",
			ErrTokenWish)
	case w.Days < 1 || w.Days > MostDays:
		return "", store.Token{}, fmt.Errorf("%w: expiry must be between 1 and %d days, not %d", ErrTokenWish, MostDays, w.Days)
	}
	acts := []string{string(rights.View)} // every other right requires view
	for _, a := range w.Permissions {
		if !slices.Contains(rights.Permissions(), rights.Permission(a)) {
			return "", store.Token{}, fmt.Errorf("%w: unknown permission %q (expected %s)", ErrTokenWish, a, rights.Named())
		}
		if !slices.Contains(acts, a) {
			acts = append(acts, a)
		}
	}
	scopes := make([]rights.Scope, 0, max(1, len(w.In)))
	for _, text := range w.In {
		in, err := rights.ParseScope(text)
		if err == nil && in.Repository != "" {
			err = fmt.Errorf("%s: a token's scope is a service or a stage", text)
		}
		if err != nil {
			return "", store.Token{}, fmt.Errorf("%w: %w", ErrTokenWish, err)
		}
		if err := d.store.CheckScope(ctx, in); err != nil {
			return "", store.Token{}, fmt.Errorf("%w: %w", ErrTokenWish, err)
		}
		scopes = append(scopes, in)
	}
	if len(scopes) == 0 {
		scopes = append(scopes, rights.Scope{})
	}
	t := store.Token{Username: p.Username, Name: w.Name, Until: d.store.Now().Add(time.Duration(w.Days) * 24 * time.Hour)}
	for _, a := range acts {
		for _, in := range scopes {
			t.Grants = append(t.Grants, rights.Grant{Right: a, In: in})
		}
	}
	if err := rights.MayMake(p.Rights(), *t.Rights()); err != nil {
		return "", t, err
	}
	text := tokenMark + hex.EncodeToString(randomBytes(24))
	var err error
	t.ID, err = d.store.AddToken(ctx, hashed(text), t)
	t.Made = d.store.Now()
	return text, t, err
}

// ByToken returns the user of a token at an address, narrowed to the token's rights. Wrong tokens are throttled
// by address; valid ones are not, because nobody guesses 24 bytes, and others may share the address.
func (d *Directory) ByToken(ctx context.Context, text, address string) (store.Person, error) {
	byAddress := limit{"address " + address, freeAddress}
	t, err := d.store.Token(ctx, hashed(text))
	if errors.Is(err, store.ErrNotFound) {
		if wait := d.guesses.reserve(byAddress); wait > 0 {
			return store.Person{}, &SlowError{wait}
		}
		d.guesses.decide(true, false, byAddress)
		return store.Person{}, errors.Join(ErrToken,
			d.store.Note(ctx, store.Entry{What: "sign-in failed", Text: "unknown token, from " + address}))
	}
	if err != nil {
		return store.Person{}, err
	}
	if !t.Ended.IsZero() || !d.store.Now().Before(t.Until) {
		return store.Person{}, fmt.Errorf("%w: %s of %s", ErrToken, t.Name, t.Username)
	}
	p, err := d.store.Person(ctx, t.Username)
	if err == nil && p.Closed {
		err = ErrToken
	}
	if err != nil {
		return store.Person{}, err
	}
	p.Token = &t
	return p, d.store.UsedToken(ctx, t, address)
}

// tokenOf reports whether a password is a token.
func tokenOf(password string) bool { return strings.HasPrefix(password, tokenMark) }

// RevokeToken revokes a user's token, and ends its streams; store.ErrNotFound if there is none.
func (d *Directory) RevokeToken(ctx context.Context, username string, id int64) error {
	defer d.ended.Ring()
	return d.store.RevokeToken(ctx, username, id)
}
