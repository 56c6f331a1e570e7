package apart

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// system are the files and folders of the machine that every command sees: programs, libraries, and the data
// for names, time zones and certificates.
func system() []string {
	return []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32",
		"/etc/ld.so.cache", "/etc/ld.so.conf", "/etc/ld.so.conf.d", "/etc/ssl", "/etc/ca-certificates", "/etc/localtime",
		"/etc/alternatives", "/etc/nsswitch.conf", "/etc/mime.types"}
}

// devices are the devices that a command can open in /dev.
func devices() []string { return []string{"null", "zero", "full", "random", "urandom"} }

// isolate builds the file tree that every command sees, below a folder that is empty outside.
func isolate(root string, p Plan) error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("leaving the machine's tree of files: %w", err)
	}
	if err := unix.Mount("cage", root, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "size=4m,mode=0755"); err != nil {
		return fmt.Errorf("making a tree of files: %w", err)
	}
	for _, name := range system() {
		if err := show(root, name, name); err != nil {
			return err
		}
	}
	for _, dir := range []string{"proc", "dev", "dev/shm", "tmp", "etc", "run", "old"} {
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			return fmt.Errorf("making a tree of files: %w", err)
		}
	}
	for _, name := range devices() {
		if err := show(root, "/dev/"+name, "/dev/"+name); err != nil {
			return err
		}
	}
	for from, to := range map[string]string{"/proc/self/fd": "dev/fd", "/proc/self/fd/0": "dev/stdin",
		"/proc/self/fd/1": "dev/stdout", "/proc/self/fd/2": "dev/stderr"} {
		if err := os.Symlink(from, filepath.Join(root, to)); err != nil {
			return fmt.Errorf("making a tree of files: %w", err)
		}
	}
	if err := unix.Mount("proc", filepath.Join(root, "proc"), "proc",
		unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
		return fmt.Errorf("showing its own processes: %w", err)
	}
	if err := loopback(); err != nil {
		return fmt.Errorf("bringing its own loopback up: %w", err)
	}
	for name, text := range map[string]string{
		"etc/passwd": fmt.Sprintf("root:x:0:0::/:/usr/sbin/nologin\nfn:x:%d:%d::%s:/bin/sh\n", max(1, p.User),
			max(1, p.User), Scratch),
		"etc/group":       fmt.Sprintf("root:x:0:\nfn:x:%d:\n", max(1, p.User)),
		"etc/hosts":       "127.0.0.1 localhost\n::1 localhost\n",
		"etc/resolv.conf": "nameserver " + Gateway + "\n",
	} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
			return fmt.Errorf("making a tree of files: %w", err)
		}
	}
	return scratch(root, usualScratch, p.owner(), 0)
}

// usualScratch is the size of a private folder that most commands have, in bytes.
const usualScratch = 64 << 20

// owner is the owner of the private folder, as numbered inside.
func (p Plan) owner() int {
	if p.Own {
		return 0
	}
	return p.User
}

// scratch creates the private folders, or changes their size.
func scratch(root string, size int64, who int, flags uintptr) error {
	for at, size := range map[string]int64{Scratch: size, "/dev/shm": size / 4} {
		options := fmt.Sprintf("size=%d,nr_inodes=%d,mode=0700,uid=%d,gid=%d", size, max(1000, size>>12), who, who)
		if err := unix.Mount("scratch", filepath.Join(root, at), "tmpfs",
			unix.MS_NOSUID|unix.MS_NODEV|flags, options); err != nil {
			return fmt.Errorf("making a private folder: %w", err)
		}
	}
	return nil
}

// show mounts a file or folder of the machine into the tree, read-only, or copies a symbolic link. Missing
// paths are left out.
func show(root, from, to string) error {
	info, err := os.Lstat(from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("showing %s: %w", from, err)
	}
	at := filepath.Join(root, to)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return fmt.Errorf("showing %s: %w", from, err)
	}
	if info.Mode()&fs.ModeSymlink != 0 && to == from && strings.Count(from, "/") == 1 { // /bin can be one
		target, err := os.Readlink(from)
		if err == nil {
			err = os.Symlink(target, at)
		}
		return err
	}
	if info, err = os.Stat(from); err != nil {
		return nil //nolint:nilerr // a link that leads nowhere shows nothing
	}
	if info.IsDir() {
		err = os.MkdirAll(at, 0o755)
	} else {
		err = os.WriteFile(at, nil, 0o644)
	}
	if err == nil {
		err = unix.Mount(from, at, "", unix.MS_BIND|unix.MS_REC, "")
	}
	attributes := &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID}
	if !strings.HasPrefix(to, "/dev/") {
		attributes.Attr_set |= unix.MOUNT_ATTR_NODEV
	}
	if err == nil {
		err = unix.MountSetattr(unix.AT_FDCWD, at, unix.AT_RECURSIVE, attributes)
	}
	if err != nil {
		return fmt.Errorf("showing %s: %w", from, err)
	}
	return nil
}

// populate adds the mounts of one command.
func populate(root string, s Spec) error {
	who := s.Plan.owner()
	if size := s.Limits.Scratch; size != 0 && size != usualScratch {
		if err := scratch(root, size, who, unix.MS_REMOUNT); err != nil {
			return err
		}
	}
	for i, m := range s.Mounts {
		to := m.To
		if to == "" {
			to = m.From
		}
		if err := show(root, m.From, to); err != nil {
			return err
		}
		if m.Layered {
			if err := layer(root, to, i, who, s.Plan.Own); err != nil {
				return err
			}
		}
	}
	return nil
}

// layer puts a writable layer over a folder that is shown.
func layer(root, to string, i, who int, own bool) error {
	at := filepath.Join(root, to)
	base := filepath.Join(root, Scratch, fmt.Sprintf(".layer-%d", i))
	upper, work := filepath.Join(base, "upper"), filepath.Join(base, "work")
	if err := errors.Join(os.MkdirAll(upper, 0o755), os.MkdirAll(work, 0o755), os.Chown(upper, who, who),
		os.Chown(work, who, who)); err != nil {
		return fmt.Errorf("layering %s: %w", to, err)
	}
	if err := mirror(at, upper, who); err != nil {
		return fmt.Errorf("layering %s: %w", to, err)
	}
	options := fmt.Sprintf("lowerdir=%s,upperdir=%s,workdir=%s", at, upper, work)
	if own {
		options += ",userxattr"
	}
	err := unix.Mount("layer", at, "overlay", unix.MS_NOSUID|unix.MS_NODEV, options)
	if err != nil { // without overlay support the folder starts empty
		err = unix.Mount(upper, at, "", unix.MS_BIND, "")
	}
	if err != nil {
		return fmt.Errorf("layering %s: %w", to, err)
	}
	return nil
}

// mirror creates the folders of a tree in another one, as a user's: in a layer, the owner of the upper folder counts,
// so the user can write into folders of anybody. Folders that are not open to everyone stay closed.
func mirror(from, to string, who int) error {
	return filepath.WalkDir(from, func(name string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
			return nil // somebody else uses the folder, or has it for themselves
		}
		if err != nil || !d.IsDir() || name == from {
			return err
		}
		info, err := d.Info()
		if err != nil || info.Mode().Perm()&0o005 != 0o005 {
			return filepath.SkipDir //nolint:nilerr // somebody else uses the folder
		}
		inside, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		at := filepath.Join(to, inside)
		return errors.Join(os.Mkdir(at, 0o755), os.Chown(at, who, who))
	})
}

// seal makes the tree the root and detaches all others.
func seal(root string) error {
	if err := unix.PivotRoot(root, filepath.Join(root, "old")); err != nil {
		return fmt.Errorf("isolating the machine's files: %w", err)
	}
	if err := os.Chdir("/"); err != nil {
		return fmt.Errorf("isolating the machine's files: %w", err)
	}
	if err := unix.Unmount("/old", unix.MNT_DETACH); err != nil {
		return fmt.Errorf("isolating the machine's files: %w", err)
	}
	_ = os.Remove("/old") // an empty folder reveals nothing
	if err := unix.MountSetattr(unix.AT_FDCWD, "/", 0, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}); err != nil {
		return fmt.Errorf("making the tree of files read-only: %w", err)
	}
	return unix.Sethostname([]byte("function"))
}
