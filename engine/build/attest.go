package build

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"
	"rudmar/core/canon"
	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/core/provenance"
	"rudmar/engine/store"
)

// KeyFile is the file of the key that versions are signed with, in the data folder.
const KeyFile = "signing.key"

// installationKey reads the signing key of versions, or creates it if that is allowed; ErrKeyGone if it is
// missing and must not be created.
func installationKey(file string, mayMake bool) (ed25519.PrivateKey, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) && !mayMake {
		return nil, fmt.Errorf("%w: %s, which signs versions", store.ErrKeyGone, filepath.Base(file))
	}
	if errors.Is(err, fs.ErrNotExist) {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, fmt.Errorf("creating the signing key: %w", err)
		}
		der, err := x509.MarshalPKCS8PrivateKey(private)
		if err != nil {
			return nil, fmt.Errorf("creating the signing key: %w", err)
		}
		return private, renameio.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the signing key: %w", err)
	}
	return signingKey(text)
}

// signingKey reads a key in PEM form.
func signingKey(text []byte) (ed25519.PrivateKey, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s is not a key in PEM form; restore the original file", KeyFile)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	private, ok := key.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, fmt.Errorf("%s is not an ed25519 key: %w", KeyFile, err)
	}
	return private, nil
}

// Key returns the public half of the key that versions are signed with.
func (b *Builder) Key() ed25519.PublicKey {
	public, _ := b.key.Public().(ed25519.PublicKey)
	return public
}

// inside reads the contents of a version's stored archives.
func (b *Builder) inside(s *manifest.Service, functions []store.VersionFunction,
	artifacts []store.Artifact) ([]provenance.Inside, error) {
	var out []provenance.Inside
	for i, f := range functions {
		_, entries, err := b.Archive(f.Digest)
		if err != nil {
			return nil, err
		}
		own := provenance.Inside{Function: f.Function, Entries: entries, Listing: artifacts[i].Listing,
			Archive: provenance.Archive{Function: f.Function, Digest: f.Digest, FileSHA256: artifacts[i].FileSHA256}}
		if fn := s.Function(f.Function); fn != nil {
			own.Runtime = fn.At("").Runtime.V
		}
		out = append(out, own)
	}
	return out, nil
}

// attest returns the provenance statement and the list of contents of a version.
func (b *Builder) attest(ctx context.Context, service store.Service, next store.Build, v store.Version, number int,
	inside []provenance.Inside) (store.Provenance, error) {
	facts := provenance.Facts{Service: v.Service, Version: number, Repository: service.Repository, Branch: v.Branch,
		Commit: v.Hash, Author: v.Author, Person: next.Person,
		Begun: next.QueuedAt, Ended: b.store.Now(), Content: v.Content}
	for _, in := range inside {
		facts.Archives = append(facts.Archives, in.Archive)
	}
	contents, err := provenance.Contents(v.Service, number, inside)
	if err != nil {
		return store.Provenance{}, fmt.Errorf("listing what is inside: %w", err)
	}
	facts.Contents = sha(contents)
	statement, err := provenance.Statement(facts)
	if err != nil {
		return store.Provenance{}, err
	}
	envelope, err := provenance.Sign(ctx, statement, b.key)
	return store.Provenance{Envelope: string(envelope), Contents: string(contents)}, err
}

func sha(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// ErrAltered reports that something of a version is not as it was built.
var ErrAltered = errors.New("the version differs from its build")

// Checked is one verified item, and its fault.
type Checked struct {
	What    string
	Problem string // "" for an empty list
}

// Verify compares everything stored of a version with its signed provenance: manifests, each archive's bytes
// and listing, and the list of contents.
func (b *Builder) Verify(ctx context.Context, service string, version int) (provenance.Facts, []Checked, error) {
	v, err := b.store.Version(ctx, service, version)
	if err != nil {
		return provenance.Facts{}, nil, store.Missing(err, "version %d of %s", version, service)
	}
	p, err := b.store.Provenance(ctx, service, version)
	if err != nil {
		return provenance.Facts{}, nil, store.Missing(err, "provenance of version %d of %s", version, service)
	}
	var out []Checked
	tell := func(what, problem string, bad bool) {
		c := Checked{What: what}
		if bad {
			c.Problem = problem
		}
		out = append(out, c)
	}
	facts, err := provenance.Open(ctx, []byte(p.Envelope), b.Key())
	if err != nil {
		return facts, []Checked{{"provenance", err.Error()}}, ErrAltered
	}
	tell("provenance", fmt.Sprintf("it is the provenance of version %d of %s from %s", facts.Version, facts.Service, facts.Commit),
		facts.Service != service || facts.Version != version || facts.Commit != v.Hash || facts.Branch != v.Branch ||
			facts.Author != v.Author)
	tell("list of contents", "its SHA-256 differs from the signed one", sha([]byte(p.Contents)) != facts.Contents)
	functions, err := b.store.VersionFunctions(ctx, service, version)
	if err != nil {
		return facts, nil, err
	}
	digests := map[string]any{}
	for _, f := range functions {
		digests[f.Function] = f.Digest
	}
	content, err := canon.Digest(map[string]any{"manifests": texts(v.Manifests), "functions": digests})
	tell("manifests", "they differ from the signed ones", err != nil || content != facts.Content ||
		v.Content != facts.Content)
	for _, a := range facts.Archives {
		problem := b.verifyArchive(ctx, a)
		tell("archive of "+a.Function, problem, problem != "")
	}
	for _, c := range out {
		if c.Problem != "" {
			return facts, out, ErrAltered
		}
	}
	return facts, out, nil
}

func (b *Builder) verifyArchive(ctx context.Context, a provenance.Archive) string {
	file, err := os.ReadFile(b.file(a.Digest))
	if err != nil {
		return "unreadable: " + err.Error()
	}
	if sha(file) != a.FileSHA256 {
		return "its bytes differ from the signed ones"
	}
	entries, err := pack.Read(file, a.Digest)
	if err != nil {
		return err.Error()
	}
	listing, err := pack.List(entries)
	kept, storeErr := b.store.Artifact(ctx, a.Digest)
	if err != nil || storeErr != nil || kept.Listing.Digest() != listing.Digest() || kept.FileSHA256 != a.FileSHA256 ||
		kept.Bytes != int64(len(file)) || kept.Listing.Size() != listing.Size() {
		return "its listing differs from the archive's"
	}
	return ""
}
