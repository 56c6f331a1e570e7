// Package apart is the entry point of the program inside a new cage: it isolates the process,
// drops its privileges and executes the command. Only package cage starts it, under the name Name.
//
// It runs while it is initialized and never returns. Go initializes packages in the order of their
// import paths as far as imports allow (The Go Programming Language Specification, "Program
// initialization"). This package is a module of its own because its path then sorts before all
// others of the program, and it imports little. So the rest of the program is not initialized
// first, which would take ten times as long, and a program that is started for a cage never begins
// its own work.
package apart

// Mount shows a file or folder of the machine inside of the cage.
type Mount struct {
	From string `json:"from"`
	To   string `json:"to,omitempty"` // the path inside; "" for the same path
	// Layered lets the command write over it: the changes are in its private folder and are deleted with it.
	Layered bool `json:"layered,omitempty"`
}

// Limits apply to all processes of a cage together. Zero is no limit.
type Limits struct {
	Memory    int64 `json:"memory,omitempty"`    // bytes, including shared memory and private files
	Processes int   `json:"processes,omitempty"` // processes and threads
	Scratch   int64 `json:"scratch,omitempty"`   // bytes of the private folder
	OpenFiles int   `json:"open_files,omitempty"`
}

// Spec describes a command in a cage.
type Spec struct {
	Command []string `json:"command"`
	Env     []string `json:"env"`
	// Dir is the working directory; "" for the private folder.
	Dir    string  `json:"dir,omitempty"`
	Mounts []Mount `json:"mounts,omitempty"`
	Limits Limits  `json:"limits"`
	// Network allows public addresses; without it there is no network.
	Network bool `json:"network,omitempty"`
	// Destinations are the only hosts and ports that it can reach, such as api.example.com:443; all if empty.
	Destinations []string `json:"-"`

	// Fields that the keeper adds.
	Plan    Plan `json:"plan"`
	Session bool `json:"session,omitempty"` // the cage persists and runs commands one after another
}

// Scratch is the private folder of a caged command: HOME and TMPDIR.
const Scratch = "/tmp"

// Plan is which walls there are.
type Plan struct {
	Spaces bool `json:"spaces"` // namespaces, and a separate file tree
	Own    bool `json:"own"`    // in an ordinary user's user namespace
	Switch bool `json:"switch"` // whether the command runs as another user
	Filter bool `json:"filter"` // a system call filter
	User   int  `json:"user"`   // the user and group, with Switch
}
