package local_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"rudmar/platform/api"
	"rudmar/platform/local"
)

// An attempt is code that tries to escape, or to exceed its limits. It returns "got" if it succeeds; anything
// else, and no response at all, is as expected. docs/security.md lists them all.
type attempt struct {
	name, code string
	event      any
	config     map[string]any
	// calls is how often it is called; the last answer counts.
	calls int
	// after checks the machine once it is over.
	after func() string
	// second is the protection that stops the attempt besides the cage, if it is not tried without one.
	second string
}

// inPython wraps an attempt in common code.
func inPython(body string) string {
	return `
import ctypes, errno, mmap, os, socket, struct, subprocess, sys, threading, time
libc = ctypes.CDLL(None, use_errno=True)
def system(number, *args):
    ctypes.set_errno(0)
    done = libc.syscall(number, *[ctypes.c_long(a) if isinstance(a, int) else a for a in args])
    return "got" if done >= 0 else errno.errorcode[ctypes.get_errno()]
def reads(*names):
    for name in names:
        try:
            with open(name, "rb") as f:
                if f.read(64): return "got"
        except OSError:
            pass
def writes(*names):
    for name in names:
        try:
            with open(name, "w") as f:
                f.write("x")
            return "got"
        except OSError:
            pass
def run(call):
` + strings.ReplaceAll("\n"+strings.TrimSpace(body), "\n", "\n    ")
}

const mib = 1 << 20

// attempts of Python functions; data is the platform's folder, port that of a server on this machine, temp a
// world-writable folder.
func pythonAttempts(data, temp string, port int, foreign string) []attempt {
	small := map[string]any{"memory": 64.0 * mib, "timeout": 20_000.0}
	call := func(number int, args string) string {
		return fmt.Sprintf("return system(%d%s)", number, args)
	}
	return []attempt{
		{name: "read the platform's database",
			code:  `return reads(*[os.path.join(call.event, n) for n in ("platform.db", "seal.key", "platform.token")])`,
			event: data},
		{name: "list the platform's folder", code: `return "got" if os.listdir(call.event) else ""`, event: data},
		{name: "read the passwords of the machine",
			code: `return reads("/etc/shadow", "/proc/1/root/etc/shadow", "/proc/self/cwd/../../etc/shadow")`},
		{name: "read the environment of others", code: `
found = [p for p in os.listdir("/proc") if p.isdigit() and int(p) != os.getpid()]
return "got" if any(reads(f"/proc/{p}/environ") for p in found) else ""`},
		{name: "read the code of others", code: `
for top, _, names in os.walk("/"):
    if top.startswith(("/proc", "/usr", "/lib", "/fn")): continue
    for name in names:
        try:
            if b"THE-OTHER-FUNCTION" in open(os.path.join(top, name), "rb").read(): return "got"
        except OSError: pass`},
		{name: "write where others read",
			code: `return writes("/usr/lib/x", "/fn/x.py", "/fn/main.py", "/etc/x", "/rudmar/python/worker.py", "/x", "/dev/x", "/run/x", "/home/x")`},
		{name: "leave a file in the machine's temporary folder", code: `
writes("/tmp/planted", call.event + "/planted", "/var/tmp/planted")`, event: temp, after: func() string {
			for _, name := range []string{"/tmp/planted", filepath.Join(temp, "planted"), "/var/tmp/planted"} {
				if _, err := os.Lstat(name); err == nil {
					return "got"
				}
			}
			return ""
		}},
		{name: "plant a link that the server follows", code: `
for name in ("/tmp/rudmar-run-x", "/tmp/work-x"):
    os.symlink("/etc/passwd", name)`, after: func() string {
			if _, err := os.Lstat("/tmp/rudmar-run-x"); err == nil {
				return "got"
			}
			return ""
		}},
		{name: "fill the disk", config: map[string]any{"memory": 512.0 * mib}, code: `
with open("/tmp/large", "wb") as f:
    for _ in range(300): f.write(b"x" * (1 << 20))
return "got"`},
		{name: "fill the shared memory folder", config: small, code: `
with open("/dev/shm/large", "wb") as f:
    for _ in range(400): f.write(b"x" * (1 << 20))
return "got"`},
		{name: "hold memory in a shared mapping", config: small, code: `
held = mmap.mmap(-1, 600 << 20)
for at in range(0, 600 << 20, 4096): held[at] = 1
return "got"`},
		{name: "hold memory in a child", config: small, code: `
child = subprocess.run([sys.executable, "-c", "x = bytearray(400 << 20); print(len(x))"], capture_output=True)
return "got" if child.returncode == 0 and child.stdout else ""`},
		{name: "hold memory in many children", config: small, code: `
children = [subprocess.Popen([sys.executable, "-c", "x = bytearray(40 << 20); import time; time.sleep(3)"]) for _ in range(10)]
return "got" if all(c.wait() == 0 for c in children) else ""`},
		{name: "hold memory in a file that has no name", config: small, code: `
fd = os.memfd_create("x")
for _ in range(400): os.write(fd, b"x" * (1 << 20))
return "got"`},
		{name: "start very many processes", code: `
children = []
for _ in range(400):
    pid = os.fork()
    if pid == 0:
        time.sleep(5); os._exit(0)
    children.append(pid)
return "got"`},
		{name: "start very many threads", code: `
for _ in range(400): threading.Thread(target=time.sleep, args=(5,), daemon=True).start()
return "got"`},
		{name: "leave a process running after the call", calls: 2, code: `
if os.path.exists("/tmp/begun"):
    time.sleep(0.2)
    return "got" if [p for p in os.listdir("/proc") if p.isdigit() and int(p) > 1] else ""
open("/tmp/begun", "w").close()
subprocess.Popen(["/bin/sleep", "600"], start_new_session=True)`},
		{name: "leave a process behind a process running", calls: 2, code: `
if os.path.exists("/tmp/begun"):
    time.sleep(0.2)
    return "got" if [p for p in os.listdir("/proc") if p.isdigit() and int(p) > 1] else ""
open("/tmp/begun", "w").close()
if os.fork() == 0:
    if os.fork() == 0:
        os.setsid(); time.sleep(600)
    os._exit(0)
os.wait()`},
		{name: "answer the next call in advance", second: "the supervisor, which ends an instance that writes anything but the answer of its call", calls: 2, code: `
if os.path.exists("/tmp/begun"): return "its own"
open("/tmp/begun", "w").close()
body = b'{"call": "' + call.id.encode() + b'", "answer": "got"}'
threading.Timer(0.005, lambda: os.write(4, struct.pack(">I", len(body)) + body)).start()
return "first"`},
		{name: "answer a call from a child", second: "the supervisor, which ends an instance that answers another call", code: `
if os.fork() == 0:
    body = b'{"call": "c-0", "answer": "got"}'
    os.write(4, struct.pack(">I", len(body)) + body); os._exit(0)
os.wait(); return "its own"`},
		{name: "look into another process", code: call(101, ", 0, 0, 0, 0")},                // ptrace(PTRACE_TRACEME)
		{name: "read the memory of another process", code: call(310, ", 1, 0, 0, 0, 0, 0")}, // process_vm_readv
		{name: "make namespaces", code: call(272, ", 0x10000000")},                          // unshare(CLONE_NEWUSER)
		{name: "start a process with namespaces", code: `
done = libc.syscall(56, ctypes.c_long(0x10000000 | 17), 0, 0, 0, 0)
if done == 0: os._exit(0)
return "got" if done > 0 else ""`},
		// clone3
		{name: "start a process with namespaces by the newer call",
			code: call(435, ", (ctypes.c_uint64 * 11)(0x10000000), 88")},
		{name: "enter the namespaces of the first process",
			code: `return system(308, os.open("/proc/1/ns/mnt", os.O_RDONLY), 0)`},
		{name: "mount a file system", code: `return system(165, b"x", b"/tmp", b"tmpfs", 0, 0)`},
		{name: "mount by the newer calls", code: `return system(430, b"tmpfs", 0)`}, // fsopen
		{name: "change its root", code: `return system(161, b"/tmp")`},
		{name: "keep a key in the kernel", code: `return system(248, b"user", b"x", b"y", 1, -3)`},
		// bpf(BPF_MAP_CREATE)
		{name: "load a program into the kernel", code: call(321, ", 0, (ctypes.c_uint32 * 18)(1, 4, 8, 1), 72")},
		{name: "count the processor's events", code: call(298, ", (ctypes.c_uint64 * 16)(0x7800000001), 0, -1, -1, 0")},
		{name: "handle faults of memory", code: call(323, ", 1")},
		{name: "ask by rings", code: call(425, ", 8, (ctypes.c_uint32 * 30)()")}, // io_uring_setup
		{name: "open files by handle", code: `return system(304, -100, (ctypes.c_uint32 * 4)(8, 1, 2, 0), 0)`},
		{name: "read the kernel's log",
			code: `return system(103, 3, ctypes.create_string_buffer(4096), 4096) if reads("/dev/kmsg") is None else "got"`},
		{name: "change the kernel's settings",
			code: `return writes("/proc/sys/kernel/core_pattern", "/proc/sys/kernel/hostname", "/proc/sysrq-trigger", "/sys/kernel/uevent_helper")`},
		{name: "set the clock", code: `return system(227, 0, (ctypes.c_long * 2)(*divmod(time.time_ns(), 10 ** 9)))`},
		{name: "become root", code: `
try: os.setuid(0)
except OSError: pass
return "got" if os.geteuid() == 0 and "CapEff:\t0000000000000000" not in open("/proc/self/status").read() else ""`},
		{name: "run a program that grants privileges", code: `
for program in ("/usr/bin/su", "/usr/bin/passwd", "/usr/bin/mount", "/usr/bin/sudo"):
    if os.path.exists(program) and b"uid=0" in subprocess.run([program, "-c", "id"], stdin=subprocess.DEVNULL, capture_output=True).stdout: return "got"`},
		{name: "open the machine's devices", code: `
for name in ("/dev/vda", "/dev/sda", "/dev/mem", "/dev/kmem", "/dev/net/tun", "/dev/fuse", "/dev/kvm"):
    try: os.close(os.open(name, os.O_RDWR)); return "got"
    except OSError: pass`},
		{name: "make a device", code: `
try: os.mknod("/tmp/disk", 0o600 | 0o020000, os.makedev(1, 5))
except OSError: return ""
return reads("/tmp/disk")`},
		{name: "reach a server of this machine", event: port, code: `
for host in ("127.0.0.1", "localhost", "10.0.2.2"):
    try: socket.create_connection((host, call.event), timeout=1).close(); return "got"
    except OSError: pass`},
		{name: "reach a server of this machine by its other addresses", event: foreign,
			config: map[string]any{"network": true}, code: `
host, port = call.event.split()
for at in (host, "127.0.0.1", "0.0.0.0", "169.254.169.254", "10.0.2.2"):
    try: socket.create_connection((at, int(port)), timeout=1).close(); return "got"
    except OSError: pass`},
		{name: "send packets of its own making", code: `
for family, kind, protocol in ((socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP), (socket.AF_PACKET, socket.SOCK_RAW, 3)):
    try: socket.socket(family, kind, protocol); return "got"
    except OSError: pass`},
		{name: "reach sockets without a file", code: `
for line in open("/proc/net/unix").read().splitlines()[1:]:
    if "@rudmar" in line or "@/" in line: return "got"`},
		{name: "end other processes", code: `
for pid in range(2, 40000):
    try: os.kill(pid, 9); return "got"
    except OSError: pass`},
		{name: "use data without a grant", second: "the platform, which checks the permissions of each request", code: `
import rudmar
try: rudmar.table("stations").read("hill"); return "got"
except Exception as error: return type(error).__name__`},
		{name: "use the token of nobody", second: "the platform, which knows the tokens of its instances", code: `
os.environ["RUDMAR_TOKEN"] = "0" * 48
import rudmar
try: rudmar.table("stations").read("hill"); return "got"
except Exception as error: return type(error).__name__`},
		{name: "speak the platform's protocol over its data socket", second: "the platform's token, which the protocol requires", code: `
c = socket.socket(socket.AF_UNIX); c.connect(os.environ["RUDMAR_SOCKET"])
c.sendall(b"GET /kinds HTTP/1.1\r\nHost: platform\r\nConnection: close\r\n\r\n")
return "got" if b" 200 " in c.recv(4096) else ""`},
		{name: "run longer than its timeout", config: map[string]any{"timeout": 500.0}, code: `
import signal
signal.signal(signal.SIGTERM, signal.SIG_IGN)
time.sleep(5); return "got"`},
	}
}

// attempts of functions in Node and Go.
func otherAttempts(data string, port int) []attempt {
	node := func(body string) string { return "export async function run(call) {\n" + body + "\n}\n" }
	js := map[string]any{"runtime": "node", "memory": 64.0 * mib, "timeout": 20_000.0}
	return []attempt{
		{name: "node: read the platform's folder", config: js, event: data,
			code: "import fs from 'node:fs'\n" +
				node(`try { return fs.readdirSync(call.event).length ? 'got' : '' } catch { return '' }`)},
		{name: "node: reach a server of this machine", config: js, event: port,
			code: "import net from 'node:net'\n" +
				node(`return await new Promise((done) => { const c = net.connect(call.event, '127.0.0.1', () => done('got')); c.on('error', () => done('')) })`)},
		{name: "node: hold memory in a child", config: js, code: "import { spawnSync } from 'node:child_process'\n" +
			node(`const c = spawnSync(process.execPath, ['-e', 'const b = []; for (let i = 0; i < 600; i++) b.push(Buffer.alloc(1 << 20, 1)); console.log(b.length)']); return c.status === 0 ? 'got' : ''`)},
		{name: "node: hold memory outside of the heap", config: js,
			code: node(`const b = []; for (let i = 0; i < 600; i++) b.push(Buffer.alloc(1 << 20, 1)); return b.length === 600 ? 'got' : ''`)},
		{name: "node: leave a process running after the call", config: js, calls: 2,
			code: "import fs from 'node:fs'\nimport { spawn } from 'node:child_process'\n" + node(`
  if (fs.existsSync('/tmp/begun')) { await new Promise((r) => setTimeout(r, 200)); return fs.readdirSync('/proc').some((p) => /^\d+$/.test(p) && p !== '1') ? 'got' : '' }
  fs.writeFileSync('/tmp/begun', ''); spawn('/bin/sleep', ['600'], { detached: true, stdio: 'ignore' }).unref(); return ''`)},
		{name: "node: answer a call that is not its own", second: "the supervisor, which ends an instance that answers another call", config: js, code: "import fs from 'node:fs'\n" + node(`
  const body = Buffer.from('{"call":"c-0","answer":"got"}'), head = Buffer.alloc(4); head.writeUInt32BE(body.length)
  fs.writeSync(4, Buffer.concat([head, body])); return 'its own'`)},
	}
}

// No function's attempt escapes, or exceeds its limits.
func TestFunctionIsIsolated(t *testing.T) {
	temp, err := os.MkdirTemp("", "rudmar-open-")
	must(t, err)
	defer os.RemoveAll(temp)
	must(t, os.Chmod(temp, 0o777))
	var dir string
	s := newStandWith(t, func(o *local.Options) { dir = o.Dir })
	kinds, err := s.client.Kinds(t.Context())
	must(t, err)
	if strings.Contains(fmt.Sprint(kinds.Notes), "namespaces") {
		t.Skip("this machine gives less: ", kinds.Notes)
	}
	everywhere, err := net.Listen("tcp", "0.0.0.0:0")
	must(t, err)
	defer everywhere.Close()
	withoutFile, err := net.Listen("unix", "@rudmar-machine")
	must(t, err)
	defer withoutFile.Close()
	foreign := "127.0.0.1"
	addresses, err := net.InterfaceAddrs()
	must(t, err)
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && n.IP.To4() != nil && !n.IP.IsLoopback() {
			foreign = n.IP.String()
		}
	}
	_, port, _ := net.SplitHostPort(everywhere.Addr().String())
	s.deploy("other", "# THE-OTHER-FUNCTION\ndef run(call):\n    return 1\n", nil)
	s.call("other", nil)
	number := s.protocol.Listener.Addr().(*net.TCPAddr).Port
	all := otherAttempts(dir, number)
	for _, a := range pythonAttempts(dir, temp, number, foreign+" "+port) {
		a.code = inPython(a.code)
		all = append(all, a)
	}
	for i, a := range all {
		t.Run(a.name, func(t *testing.T) {
			name := fmt.Sprintf("try-%d", i)
			file := "main.py"
			if a.config["runtime"] == "node" {
				file = "main.mjs"
			}
			s.deployFile(name, file, []byte(a.code), a.config)
			var last api.Invocation
			for range max(1, a.calls) {
				last = s.call(name, a.event)
			}
			if last.Response == "got" || a.after != nil && a.after() == "got" {
				t.Errorf("it got what it tried for: %+v", last)
			}
			if last.Error != nil && (strings.Contains(last.Error.Kind, "Syntax") || strings.Contains(last.Error.Message, "no file")) {
				t.Errorf("the attempt itself is broken: %+v", last.Error)
			}
		})
	}
}

// Unprotected, each attempt succeeds: otherwise its failure in a cage would prove nothing. It runs as root in namespaces
// of its own, so the machine stays as it is, without the other protections. An attempt that cannot be carried out
// there, or whose protection is in Rudmar's own code, names the second protection that stops it.
func TestAttemptsSucceedUnprotected(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can carry out the attempts without protection")
	}
	temp := t.TempDir()
	must(t, os.Chmod(temp, 0o777))
	for _, name := range []string{"platform.db", "seal.key"} {
		must(t, os.WriteFile(filepath.Join(temp, name), []byte("secret"), 0o600))
	}
	must(t, os.WriteFile(filepath.Join(temp, "other.py"), []byte("# THE-OTHER-FUNCTION"), 0o600))
	withoutFile, err := net.Listen("unix", "@rudmar-without-a-file")
	must(t, err)
	defer withoutFile.Close()
	l, err := net.Listen("tcp", "0.0.0.0:0")
	must(t, err)
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	all := otherAttempts(temp, port)
	for _, a := range pythonAttempts(temp, temp, port, fmt.Sprintf("127.0.0.1 %d", port)) {
		a.code = inPython(a.code)
		all = append(all, a)
	}
	for _, a := range all {
		t.Run(a.name, func(t *testing.T) {
			if a.second != "" {
				t.Log("not tried without protection; it is also stopped by " + a.second)
				return
			}
			if out := unprotected(t, a); !strings.Contains(out, "\ngot") {
				t.Errorf("without protection it does not succeed: %s", out)
			}
		})
	}
}

// unprotected runs an attempt without a cage, and returns its output with its last answer as a line. What it writes
// outside of namespaces is removed.
func unprotected(t *testing.T, a attempt) string {
	t.Helper()
	dir := t.TempDir()
	event, err := json.Marshal(a.event)
	must(t, err)
	calls := fmt.Sprint(max(1, a.calls))
	file, program := "main.py", []string{"python3", "-c", `
import json, subprocess, sys, types
decoy = subprocess.Popen(["/bin/sleep", "60"])
sys.path.insert(0, sys.argv[1])
import main
for i in range(int(sys.argv[3])):
    answer = main.run(types.SimpleNamespace(event=json.loads(sys.argv[2]), id=f"c-{i}"))
print()
print(answer, flush=True)`, dir, string(event), calls}
	if a.config["runtime"] == "node" {
		file, program = "main.mjs", []string{"node", "--input-type=module", "-e",
			"const m = await import(" + fmt.Sprintf("%q", filepath.Join(dir, "main.mjs")) + "); let a; for (let i = 0; i < " + calls +
				"; i++) a = await m.run({ event: " + string(event) + ", id: `c-${i}` }); console.log('\\n' + a); process.exit(0)"}
	}
	must(t, os.WriteFile(filepath.Join(dir, file), []byte(a.code), 0o600))
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "unshare", append([]string{"--mount", "--pid", "--ipc", "--uts", "--fork", "--kill-child",
		"--mount-proc"}, program...)...)
	out, err := cmd.CombinedOutput()
	text := string(out)
	if err != nil {
		text += err.Error()
	}
	if a.after != nil && a.after() == "got" {
		text += "\ngot\n"
	}
	for _, name := range []string{"/tmp/begun", "/tmp/large", "/dev/shm/large", "/tmp/planted", "/var/tmp/planted", "/tmp/disk", "/tmp/rudmar-run-x",
		"/tmp/work-x", "/usr/lib/x"} {
		must(t, os.RemoveAll(name))
	}
	return text
}
