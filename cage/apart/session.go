package apart

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// Request is a request to a session; one of its fields is set.
type Request struct {
	Put     *File  `json:"put,omitempty"` // its content follows
	Run     *Step  `json:"run,omitempty"`
	Collect string `json:"collect,omitempty"` // the files below a folder
}

// File is a file in progress in or out; its content follows the frame.
type File struct {
	Path       string `json:"path"`
	Executable bool   `json:"executable,omitempty"`
	Size       int64  `json:"size"`
}

// Answer is the outcome of a request.
type Response struct {
	File  *File  `json:"file,omitempty"`
	Error string `json:"error,omitempty"`
	// Exit is the exit status of a command: 0 for success.
	Exit int  `json:"exit,omitempty"`
	End  bool `json:"end,omitempty"`
}

// Step is one command of a session.
type Step struct {
	Command []string `json:"command"`
	Env     []string `json:"env"`
	Dir     string   `json:"dir"`
	// Way gives this command network access through an HTTP proxy at ProxyAddress.
	Way bool `json:"way,omitempty"`
	// Mark is written after its output; once it is read, all output has been read.
	Mark string `json:"mark,omitempty"`
}

// ProxyAddress is the address of a command's HTTP proxy.
const ProxyAddress = "127.0.0.1:3128"

// serve is the first process of a session's cage: it writes files, runs commands as their users, ends their
// remaining processes, and returns files. It reads files only while nothing else runs, and only within the
// cage.
func serve(s Spec) error {
	in, out := os.NewFile(inFD, "requests"), os.NewFile(outFD, "answers")
	who := s.Plan.owner()
	for {
		var r Request
		if err := ReceiveFrame(in, &r); err != nil {
			os.Exit(0) // the client disconnected, or has received everything that it asked for
		}
		var err error
		a := Response{End: true}
		switch {
		case r.Put != nil:
			err = take(in, *r.Put, who)
		case r.Run != nil:
			a.Exit, err = runStep(s, *r.Run)
			killOthers()
			_, _ = os.Stdout.WriteString(r.Run.Mark) // the keeper reads it
		case r.Collect != "":
			err = sendFiles(out, r.Collect)
		}
		if err != nil {
			a.Error = err.Error()
		}
		if err := SendFrame(out, a); err != nil {
			os.Exit(0)
		}
	}
}

// take writes a file.
func take(in io.Reader, f File, who int) error {
	content := io.LimitReader(in, f.Size)
	defer func() { _, _ = io.Copy(io.Discard, content) }()
	full := filepath.Join("/", f.Path)
	dir := "/"
	for _, part := range strings.Split(strings.Trim(path.Dir(full), "/"), "/") {
		dir = path.Join(dir, part)
		switch err := os.Mkdir(dir, 0o755); {
		case err == nil:
			if err := os.Lchown(dir, who, who); err != nil {
				return err
			}
		case !errors.Is(err, fs.ErrExist):
			return err
		}
	}
	mode := fs.FileMode(0o644)
	if f.Executable {
		mode = 0o755
	}
	to, err := os.OpenFile(full, os.O_CREATE|os.O_EXCL|os.O_WRONLY|unix.O_NOFOLLOW, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, content)
	return errors.Join(err, to.Chown(who, who), to.Close())
}

// runStep runs one command and returns its exit status.
func runStep(s Spec, step Step) (int, error) {
	s.Command, s.Env, s.Dir = step.Command, step.Env, step.Dir
	if step.Way {
		closed, err := forwardProxy()
		if err != nil {
			return 0, fmt.Errorf("opening network access: %w", err)
		}
		defer closed()
	}
	mine, theirs, err := socketFiles()
	if err != nil {
		return 0, err
	}
	defer mine.Close()
	null, err := os.Open("/dev/null")
	if err != nil {
		return 0, err
	}
	defer null.Close()
	cmd := exec.Command("/proc/self/exe")
	cmd.Args = []string{once}
	cmd.Env = []string{}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = null, os.Stdout, os.Stdout
	cmd.ExtraFiles = []*os.File{null, null, theirs}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = cmd.Start()
	theirs.Close()
	if err != nil {
		return 0, err
	}
	if err := SendFrame(mine, s); err != nil {
		return 0, err
	}
	why, _ := io.ReadAll(io.LimitReader(mine, 4096)) // the other end is closed once the command has started
	err = cmd.Wait()
	var ended *exec.ExitError
	switch {
	case len(why) > 0:
		return 0, errors.New(strings.TrimSpace(string(why)))
	case errors.As(err, &ended):
		if status, ok := ended.Sys().(syscall.WaitStatus); ok && status.Signaled() {
			return 128 + int(status.Signal()), nil
		}
		return ended.ExitCode(), nil
	}
	return 0, err
}

// beginOne is how a command of a session is started.
func beginOne(control *os.File) error {
	var s Spec
	if err := ReceiveFrame(control, &s); err != nil {
		return fmt.Errorf("reading what to run: %w", err)
	}
	return begin(s)
}

func socketFiles() (mine, theirs *os.File, err error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	return os.NewFile(uintptr(pair[0]), "control"), os.NewFile(uintptr(pair[1]), "control"), nil
}

// killOthers ends all processes of the cage except this one, which is its first.
func killOthers() {
	_ = unix.Kill(-1, unix.SIGKILL) // it may not exist
	for {
		if _, err := unix.Wait4(-1, nil, 0, nil); err != nil && !errors.Is(err, unix.EINTR) {
			return
		}
	}
}

// forwardProxy accepts connections to the proxy's address and passes them to the keeper, which serves them,
// until closed.
func forwardProxy() (closed func(), err error) {
	l, err := net.Listen("tcp", ProxyAddress)
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if f, err := c.(*net.TCPConn).File(); err == nil {
				// The client sees a closed connection.
				_ = unix.Sendmsg(controlFD, []byte{'c'}, unix.UnixRights(int(f.Fd())), nil, 0)
				f.Close()
			}
			c.Close()
		}
	}()
	return func() { l.Close() }, nil
}

// sendFiles sends all regular files below a folder, sorted. Nothing else runs
// meanwhile, and links are not followed.
func sendFiles(out io.Writer, dir string) error {
	return filepath.WalkDir(dir, func(full string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		f, err := os.OpenFile(full, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, full)
		if err != nil {
			return err
		}
		if err := SendFrame(out,
			Response{File: &File{Path: filepath.ToSlash(rel), Executable: info.Mode()&0o100 != 0,
				Size: info.Size()}}); err != nil {
			return err
		}
		_, err = io.CopyN(out, f, info.Size())
		return err
	})
}
