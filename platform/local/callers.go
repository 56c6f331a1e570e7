package local

import (
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

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
	until   time.Time
}

// keptCall names an invocation that can be read.
type keptCall struct {
	scope scope
	id    string
}

// callers are the temporary callers, by the hash of their token, and their invocations: the newest of them. They can
// be used concurrently, and end with the process.
type callers struct {
	known *lru.Cache[string, temporaryCaller]
	calls *lru.Cache[keptCall, api.Invocation]
}

func newCallers() (callers, error) {
	known, err := lru.New[string, temporaryCaller](callersKept)
	if err != nil {
		return callers{}, err
	}
	calls, err := lru.New[keptCall, api.Invocation](callsKept)
	return callers{known, calls}, err
}

// create returns the token of a new caller.
func (c callers) create(of temporaryCaller, valid time.Duration) string {
	token := "case-" + random(20)
	of.until = time.Now().Add(valid)
	c.known.Add(hashed(token), of)
	return token
}

// of returns the caller with a token, if it is a caller of a scope and its token has not expired.
func (c callers) of(sc scope, token string) (temporaryCaller, bool) {
	found, ok := c.known.Get(hashed(token))
	return found, ok && token != "" && found.scope == sc && time.Now().Before(found.until)
}
