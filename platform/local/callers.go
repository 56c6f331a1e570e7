package local

import (
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"rudmar/platform/api"
)

// Limits of temporary callers and of the invocations that they can read.
const (
	callersFor  = 10 * time.Minute
	callersKept = 10_000
	callsKept   = 1_000
)

// temporaryCaller is a caller of one scope's routes, for a purpose.
type temporaryCaller struct {
	scope   scope
	purpose string
	groups  []string
}

// keptCall names an invocation that can be read.
type keptCall struct {
	scope scope
	id    string
}

// callers are the temporary callers, by the hash of their token, and their invocations. They can be used
// concurrently, and end with the process.
type callers struct {
	known *expirable.LRU[string, temporaryCaller]
	calls *expirable.LRU[keptCall, api.Invocation]
}

func newCallers() callers {
	return callers{expirable.NewLRU[string, temporaryCaller](callersKept, nil, callersFor),
		expirable.NewLRU[keptCall, api.Invocation](callsKept, nil, callersFor)}
}

// create returns the token of a new caller.
func (c callers) create(of temporaryCaller) string {
	token := "case-" + random(20)
	c.known.Add(hashed(token), of)
	return token
}

// of returns the caller with a token, if it is a caller of a scope.
func (c callers) of(sc scope, token string) (temporaryCaller, bool) {
	found, ok := c.known.Get(hashed(token))
	return found, ok && token != "" && found.scope == sc
}
