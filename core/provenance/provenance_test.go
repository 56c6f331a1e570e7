package provenance_test

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"rudmar/core/pack"
	"rudmar/core/provenance"
)

func facts() provenance.Facts {
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	return provenance.Facts{Service: "frostline", Version: 7, Repository: "brambleford", Branch: "main",
		Commit: strings.Repeat("a", 40), Author: "wren", Person: "wren",
		Begun: at, Ended: at.Add(time.Second), Content: "sha256:c", Contents: "d",
		Archives: []provenance.Archive{{Function: "night", Digest: "sha256:1", FileSHA256: "11"},
			{Function: "warn", Digest: "sha256:2", FileSHA256: "22"}}}
}

func TestSignedStatements(t *testing.T) {
	ctx := context.Background()
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	statement, err := provenance.Statement(facts())
	if err != nil {
		t.Fatal(err)
	}
	var plain map[string]any
	if err := json.Unmarshal(statement, &plain); err != nil || plain["_type"] != "https://in-toto.io/Statement/v1" ||
		plain["predicateType"] != "https://slsa.dev/provenance/v1" {
		t.Errorf("%v %s", err, statement)
	}
	envelope, err := provenance.Sign(ctx, statement, private)
	if err != nil {
		t.Fatal(err)
	}
	got, err := provenance.Open(ctx, envelope, public)
	if err != nil || !reflect.DeepEqual(got, facts()) {
		t.Errorf("%v\n got %+v\nwant %+v", err, got, facts())
	}

	other, _, _ := ed25519.GenerateKey(nil)
	if _, err := provenance.Open(ctx, envelope, other); !errors.Is(err, provenance.ErrSignature) {
		t.Errorf("with another key: %v", err)
	}
	var e struct {
		PayloadType string              `json:"payloadType"`
		Payload     string              `json:"payload"`
		Signatures  []map[string]string `json:"signatures"`
	}
	if err := json.Unmarshal(envelope, &e); err != nil {
		t.Fatal(err)
	}
	payload, err := base64.StdEncoding.DecodeString(e.Payload)
	if err != nil {
		t.Fatal(err)
	}
	for i := range payload { // a flipped bit anywhere in the statement
		flipped := append([]byte(nil), payload...)
		flipped[i] ^= 1
		e.Payload = base64.StdEncoding.EncodeToString(flipped)
		text, _ := json.Marshal(e)
		if _, err := provenance.Open(ctx, text, public); !errors.Is(err, provenance.ErrSignature) {
			t.Fatalf("byte %d was flipped: %v", i, err)
		}
	}
}

func TestContents(t *testing.T) {
	entries := []pack.Entry{
		{Path: "package-lock.json",
			Content: []byte(`{"packages": {"": {}, "node_modules/@co/pear": {"version": "1.2.3"}, "node_modules/a/node_modules/b": {"version": "2.0.0"}, "node_modules/t": {"version": "9", "dev": true}}}`)},
		{Path: "requirements.txt", Content: []byte("# pinned\nPear_Tools==3.1 ; python_version > '3'\nloose>=2\n")},
		{Path: "go.sum", Content: []byte("example.invalid/apple v1.0.0 h1:x=\nexample.invalid/apple v1.0.0/go.mod h1:y=\n")},
		{Path: "node_modules/x/requirements.txt", Content: []byte("inner==1\n")},
	}
	listing, err := pack.List(entries)
	if err != nil {
		t.Fatal(err)
	}
	inside := []provenance.Inside{{Function: "warn", Runtime: "node", Entries: entries, Listing: listing,
		Archive: provenance.Archive{Function: "warn", FileSHA256: "22"}}}
	text, err := provenance.Contents("frostline", 7, inside)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"bomFormat":"CycloneDX"`, `"pkg:npm/%40co/pear@1.2.3"`, `"pkg:npm/b@2.0.0"`,
		`"pkg:pypi/pear_tools@3.1"`, `"pkg:golang/example.invalid/apple@v1.0.0"`, listing[0].SHA256} {
		if !strings.Contains(string(text), want) {
			t.Errorf("%s is missing in\n%s", want, text)
		}
	}
	for _, not := range []string{"loose", "pkg:npm/t@", "inner"} {
		if strings.Contains(string(text), not) {
			t.Errorf("%s is there", not)
		}
	}
	if again, _ := provenance.Contents("frostline", 7, inside); string(again) != string(text) {
		t.Error("the same contents give another list")
	}
}
