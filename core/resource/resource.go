// Package resource defines the resources of a platform: their kinds, their addresses, and the
// changes that a plan can make.
package resource

import "strings"

// The kinds of resources.
const (
	Identity     = "identity"     // who a function is on the platform
	Grant        = "grant"        // what an identity may do with one resource
	Logs         = "logs"         // a function's log store
	Function     = "function"     // a function's configuration
	Revision     = "revision"     // code and configuration frozen together
	Pointer      = "pointer"      // which revision gets which share of the calls
	Opening      = "opening"      // who may call through a trigger
	Route        = "route"        // a trigger by HTTP
	Schedule     = "schedule"     // a trigger by time
	Subscription = "subscription" // a trigger by objects, a queue or another function
)

// Split returns the kind of an address and what stands behind it:
// "route/warn/ask" is a route, "warn/ask".
func Split(address string) (kind, rest string) {
	kind, rest, _ = strings.Cut(address, "/")
	return kind, rest
}

// Change is what happens to a resource.
type Change string

// The kinds of change.
const (
	Create  Change = "create"
	Update  Change = "update"
	Replace Change = "replace"
	Delete  Change = "delete"
	Adopt   Change = "adopt"   // take over what is live but not recorded
	Restore Change = "restore" // undo drift
)

// FunctionOf returns the function whose resource an address is of: "route/warn/ask" is
// of warn.
func FunctionOf(address string) string {
	_, rest := Split(address)
	function, _, _ := strings.Cut(rest, "/")
	return function
}
