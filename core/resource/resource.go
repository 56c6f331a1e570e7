// Package resource defines the resources of a platform: their kinds, their addresses, and the
// changes that a plan can make.
//
// All its functions can be called concurrently.
package resource

import "strings"

// The kinds of resources.
const (
	Identity     = "identity"     // who a function is on the platform
	Grant        = "grant"        // a permission of an identity on one resource
	Logs         = "logs"         // a function's log store
	Function     = "function"     // a function's configuration
	Revision     = "revision"     // code and configuration frozen together
	Pointer      = "pointer"      // the share of invocations of each revision
	Opening      = "opening"      // who can call through a trigger
	Route        = "route"        // an HTTP trigger
	Schedule     = "schedule"     // a schedule trigger
	Subscription = "subscription" // an object, queue or function trigger
)

// Split returns the kind of an address and the rest: "route/warn/ask" is a route, "warn/ask".
func Split(address string) (kind, rest string) {
	kind, rest, _ = strings.Cut(address, "/")
	return kind, rest
}

// Change is the kind of a change of a resource.
type Change string

// The kinds of change.
const (
	Create  Change = "create"
	Update  Change = "update"
	Replace Change = "replace"
	Delete  Change = "delete"
	Adopt   Change = "adopt"   // record a resource that exists but is not recorded
	Restore Change = "restore" // undo drift
)

// FunctionOf returns the function of an address: "route/warn/ask" belongs to warn.
func FunctionOf(address string) string {
	_, rest := Split(address)
	function, _, _ := strings.Cut(rest, "/")
	return function
}
