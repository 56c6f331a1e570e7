package provenance_test

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"

	"rudmar/core/provenance"
)

func Example() {
	public, private, _ := ed25519.GenerateKey(nil)
	statement, _ := provenance.Statement(provenance.Facts{Service: "frostline", Version: 7, Commit: "4be1"})
	envelope, _ := provenance.Sign(context.Background(), statement, private)
	facts, err := provenance.Open(context.Background(), envelope, public)
	fmt.Println(facts.Service, facts.Version, err)

	stranger, _, _ := ed25519.GenerateKey(nil)
	_, err = provenance.Open(context.Background(), envelope, stranger)
	fmt.Println(errors.Is(err, provenance.ErrSignature))
	// Output:
	// frostline 7 <nil>
	// true
}
