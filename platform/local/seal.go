package local

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2"
	"golang.org/x/crypto/chacha20poly1305"
)

// sealKeyFile contains the key that encrypts secrets, in the platform's folder.
const sealKeyFile = "seal.key"

// sealedMark is the prefix of an encrypted text.
const sealedMark = "sealed:"

// ErrKeyGone reports that the key of the platform's secrets is missing.
var ErrKeyGone = errors.New(
	"the key of the platform's secrets is missing; restore it from your backup, or move the platform's folder away, start, and redeploy each stage")

// hasSealed reports whether anything is encrypted.
func (s *store) hasSealed(ctx context.Context) (sealed bool, err error) {
	err = s.db.QueryRowContext(ctx,
		`SELECT EXISTS (SELECT 1 FROM resources WHERE secrets LIKE 'sealed:%') OR EXISTS (SELECT 1 FROM revisions WHERE secrets LIKE 'sealed:%')
		OR EXISTS (SELECT 1 FROM kept_secrets WHERE value LIKE 'sealed:%')`).Scan(&sealed)
	return sealed, err
}

// openSeal returns the cipher of secrets (XChaCha20-Poly1305), with a key that it creates if nothing is
// encrypted yet; ErrKeyGone if it is missing.
func openSeal(dir string, mayMake bool) (cipher.AEAD, error) {
	name := filepath.Join(dir, sealKeyFile)
	key, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) && !mayMake {
		return nil, fmt.Errorf("%w: %s", ErrKeyGone, sealKeyFile)
	}
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, chacha20poly1305.KeySize)
		_, _ = rand.Read(key) // documented never to fail
		err = renameio.WriteFile(name, key, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the key of the platform's secrets: %w", err)
	}
	seal, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, fmt.Errorf("reading the key of the platform's secrets in %s: %w", sealKeyFile, err)
	}
	return seal, nil
}

// encrypted encrypts a text for a scope: in another one it cannot be decrypted. An empty text is not encrypted.
func (s *store) sealed(sc scope, text string) string {
	if text == "" || text == "{}" || text == "null" {
		return text
	}
	nonce := make([]byte, s.seal.NonceSize())
	_, _ = rand.Read(nonce) // documented never to fail
	return sealedMark + base64.StdEncoding.EncodeToString(s.seal.Seal(nonce, nonce, []byte(text), []byte(sc.String())))
}

// unsealed decrypts a text.
func (s *store) unsealed(sc scope, text string) (string, error) {
	body, ok := strings.CutPrefix(text, sealedMark)
	if !ok {
		return text, nil
	}
	b, err := base64.StdEncoding.DecodeString(body)
	n := s.seal.NonceSize()
	if err != nil || len(b) < n {
		return "", fmt.Errorf("a secret of %s is stored in an unknown form", sc)
	}
	plain, err := s.seal.Open(nil, b[:n], b[n:], []byte(sc.String()))
	if err != nil {
		return "", fmt.Errorf("decrypting a secret of %s: it was encrypted with another key or for another scope: %w", sc, err)
	}
	return string(plain), nil
}

// unsealedSecrets opens a resource's or a revision's secrets.
func (s *store) unsealedSecrets(sc scope, text string) (map[string]string, error) {
	plain, err := s.unsealed(sc, text)
	if err != nil {
		return nil, err
	}
	var out map[string]string
	return out, json.Unmarshal([]byte(plain), &out)
}

// sealAll encrypts values that an earlier platform stored in the clear.
func (s *store) sealAll(ctx context.Context) error {
	for _, t := range []struct{ table, column string }{{"resources", "secrets"}, {"revisions", "secrets"},
		{"kept_secrets", "value"}} {
		rows, err := s.db.QueryContext(ctx, `SELECT rowid, region, service, stage, `+t.column+` FROM `+t.table+` WHERE `+
			t.column+` NOT IN ('', '{}', 'null') AND `+t.column+` NOT LIKE 'sealed:%'`)
		if err != nil {
			return err
		}
		open := map[int64]string{}
		for rows.Next() {
			var id int64
			var sc scope
			var text string
			if err := rows.Scan(&id, &sc.region, &sc.service, &sc.stage, &text); err != nil {
				rows.Close()
				return err
			}
			open[id] = s.sealed(sc, text)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return err
		}
		for id, text := range open {
			if _, err := s.db.ExecContext(ctx, `UPDATE `+t.table+` SET `+t.column+` = ? WHERE rowid = ?`, text, id); err != nil {
				return fmt.Errorf("encrypting secrets: %w", err)
			}
		}
	}
	return nil
}
