package resource

import (
	"crypto/sha256"
	"encoding/hex"

	"rudmar/core/canon"
)

// Frozen is the digest of a revision's configuration.
func Frozen(members []canon.Member) string {
	digest, err := canon.Digest(members)
	if err != nil {
		return "" // attributes are JSON values, which all have a canonical form
	}
	return digest
}

// Configuration returns the digest of a function's attributes in a revision: all but max_concurrency, which can
// change without a new revision.
func Configuration(attributes map[string]any) string {
	own := make([]canon.Member, 0, len(attributes))
	for name, v := range attributes {
		if name != "max_concurrency" {
			own = append(own, canon.Member{Name: name, Value: v})
		}
	}
	return Frozen(own)
}

// RevisionID names a revision by its content, so the same code and configuration always have the same revision.
func RevisionID(artifact, configuration string) string {
	sum := sha256.Sum256([]byte(artifact + "\n" + configuration))
	return "r-" + hex.EncodeToString(sum[:5])
}
