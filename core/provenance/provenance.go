// Package provenance records the origin and content of a version: an in-toto statement (v1, with
// the predicate slsa.dev/provenance/v1) in a DSSE envelope signed with Ed25519, and a CycloneDX
// bill of materials.
//
// All its functions can be called concurrently.
package provenance

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"time"

	spec "github.com/in-toto/attestation/go/v1"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/types/known/structpb"
)

// PayloadType of the envelope, as in-toto has it.
const PayloadType = "application/vnd.in-toto+json"

const predicateType = "https://slsa.dev/provenance/v1"

// ErrSignature reports that an envelope was not signed with the installation's key.
var ErrSignature = errors.New("the provenance is not signed with this installation's key")

// Archive is a function's archive.
type Archive struct {
	Function   string
	Digest     string // of its listing, "sha256:…"
	FileSHA256 string // of its file, hexadecimal
}

// Facts are the contents of a statement about a version.
type Facts struct {
	Service    string
	Version    int
	Repository string
	Branch     string
	Commit     string // git's hash
	Author     string
	Person     string // the person who pushed
	Begun      time.Time
	Ended      time.Time
	Content    string // digest of manifests and archives
	Contents   string // SHA-256 of the CycloneDX list, hexadecimal
	Archives   []Archive
}

// Statement returns the in-toto statement of a version.
func Statement(f Facts) ([]byte, error) {
	predicate, err := structpb.NewStruct(map[string]any{
		"buildDefinition": map[string]any{
			"buildType": "https://rudmar.invalid/build/1",
			"externalParameters": map[string]any{"service": f.Service, "repository": f.Repository, "branch": f.Branch,
				"version": float64(f.Version)},
			"internalParameters": map[string]any{"content": f.Content, "contents": f.Contents,
				"author": f.Author, "person": f.Person},
			"resolvedDependencies": []any{map[string]any{"uri": "git:" + f.Repository + "@" + f.Branch,
				"digest": map[string]any{"gitCommit": f.Commit}}},
		},
		"runDetails": map[string]any{
			"builder": map[string]any{"id": "https://rudmar.invalid/builder/1"},
			"metadata": map[string]any{"invocationId": fmt.Sprintf("%s/%d", f.Service, f.Version),
				"startedOn": f.Begun.UTC().Format(time.RFC3339), "finishedOn": f.Ended.UTC().Format(time.RFC3339)},
		},
	})
	if err != nil {
		return nil, fmt.Errorf("writing the provenance: %w", err)
	}
	s := &spec.Statement{Type: spec.StatementTypeUri, PredicateType: predicateType, Predicate: predicate}
	archives := append([]Archive(nil), f.Archives...)
	sort.Slice(archives, func(i, j int) bool { return archives[i].Function < archives[j].Function })
	for _, a := range archives {
		listing, err := structpb.NewStruct(map[string]any{"listing": a.Digest})
		if err != nil {
			return nil, fmt.Errorf("writing the provenance: %w", err)
		}
		s.Subject = append(s.Subject,
			&spec.ResourceDescriptor{Name: a.Function, Digest: map[string]string{"sha256": a.FileSHA256}, Annotations: listing})
	}
	text, err := protojson.Marshal(s)
	if err != nil {
		return nil, fmt.Errorf("writing the provenance: %w", err)
	}
	var tidy bytes.Buffer // protojson varies its whitespace on purpose
	err = json.Compact(&tidy, text)
	return tidy.Bytes(), err
}

// key signs and verifies with ed25519, as dsse wants it.
type key struct {
	private ed25519.PrivateKey
	public  ed25519.PublicKey
}

func (k key) Sign(_ context.Context, data []byte) ([]byte, error) {
	return ed25519.Sign(k.private, data), nil
}

func (k key) Verify(_ context.Context, data, signature []byte) error {
	if !ed25519.Verify(k.public, data, signature) {
		return ErrSignature
	}
	return nil
}

func (k key) KeyID() (string, error) { return KeyID(k.public), nil }

func (k key) Public() crypto.PublicKey { return k.public }

// KeyID names a public key by its SHA-256.
func KeyID(public ed25519.PublicKey) string {
	sum := sha256.Sum256(public)
	return hex.EncodeToString(sum[:8])
}

// Sign puts a statement into a signed envelope.
func Sign(ctx context.Context, statement []byte, private ed25519.PrivateKey) ([]byte, error) {
	public, _ := private.Public().(ed25519.PublicKey)
	signer, err := dsse.NewEnvelopeSigner(key{private, public})
	if err != nil {
		return nil, fmt.Errorf("signing the provenance: %w", err)
	}
	envelope, err := signer.SignPayload(ctx, PayloadType, statement)
	if err != nil {
		return nil, fmt.Errorf("signing the provenance: %w", err)
	}
	return json.Marshal(envelope)
}

// Open verifies an envelope's signature and parses its statement.
func Open(ctx context.Context, envelope []byte, public ed25519.PublicKey) (Facts, error) {
	var e dsse.Envelope
	if err := json.Unmarshal(envelope, &e); err != nil {
		return Facts{}, fmt.Errorf("reading the provenance: %w", err)
	}
	verifier, err := dsse.NewEnvelopeVerifier(key{public: public})
	if err != nil {
		return Facts{}, fmt.Errorf("reading the provenance: %w", err)
	}
	if _, err := verifier.Verify(ctx, &e); err != nil {
		return Facts{}, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	payload, err := base64.StdEncoding.DecodeString(e.Payload)
	if err != nil || e.PayloadType != PayloadType {
		return Facts{}, fmt.Errorf("the provenance is not an in-toto statement: %s", e.PayloadType)
	}
	return read(payload)
}

func read(payload []byte) (Facts, error) {
	var s struct {
		Type          string `json:"_type"`
		PredicateType string `json:"predicateType"`
		Subject       []struct {
			Name        string
			Digest      map[string]string
			Annotations map[string]string
		}
		Predicate struct {
			BuildDefinition struct {
				ExternalParameters struct {
					Service, Repository, Branch string
					Version                     int
				}
				InternalParameters   struct{ Content, Contents, Author, Person string }
				ResolvedDependencies []struct{ Digest map[string]string }
			}
			RunDetails struct {
				Metadata struct{ StartedOn, FinishedOn time.Time }
			}
		}
	}
	if err := json.Unmarshal(payload, &s); err != nil {
		return Facts{}, fmt.Errorf("reading the provenance: %w", err)
	}
	if s.Type != spec.StatementTypeUri || s.PredicateType != predicateType ||
		len(s.Predicate.BuildDefinition.ResolvedDependencies) != 1 {
		return Facts{}, fmt.Errorf("the provenance is a statement of another kind: %s", s.PredicateType)
	}
	out, in, meta := s.Predicate.BuildDefinition.ExternalParameters, s.Predicate.BuildDefinition.InternalParameters,
		s.Predicate.RunDetails.Metadata
	f := Facts{Service: out.Service, Version: out.Version, Repository: out.Repository, Branch: out.Branch,
		Author: in.Author, Person: in.Person,
		Content: in.Content, Contents: in.Contents, Begun: meta.StartedOn, Ended: meta.FinishedOn,
		Commit: s.Predicate.BuildDefinition.ResolvedDependencies[0].Digest["gitCommit"]}
	for _, a := range s.Subject {
		f.Archives = append(f.Archives,
			Archive{Function: a.Name, FileSHA256: a.Digest["sha256"], Digest: a.Annotations["listing"]})
	}
	return f, nil
}
