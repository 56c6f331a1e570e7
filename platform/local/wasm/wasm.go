// Package wasm runs one function compiled to WebAssembly (WASI preview 1) as a worker of the local
// platform. Invocations arrive as frames on file descriptor 3, which also carries the responses.
package wasm

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"
	"github.com/tetratelabs/wazero/imports/wasi_snapshot_preview1"
)

// File is the name of the compiled function in its archive.
const File = "main.wasm"

// page is the size of a page of WebAssembly memory, in bytes.
const page = 64 << 10

// start is the first frame: what to load.
type start struct {
	ID          string `json:"id"`
	Code        string `json:"code"`
	MemoryLimit int64  `json:"memory_limit"`
	Cache       string `json:"cache"`
	// The input of each invocation, besides the event.
	Function string `json:"function"`
	Version  int    `json:"version"`
	Stage    string `json:"stage"`
}

// whole adds the constant fields to the frame of an invocation.
func (s start) whole(frame []byte) ([]byte, error) {
	same, err := json.Marshal(map[string]any{"function": s.Function, "version": s.Version, "stage": s.Stage,
		"memory_limit": s.MemoryLimit})
	if err != nil || len(frame) < 3 || frame[0] != '{' {
		return frame, err
	}
	same[len(same)-1] = ','
	return append(same, frame[1:]...), nil
}

// Compile compiles a module into a cache, so workers find it there.
func Compile(ctx context.Context, file, cache string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	compiled, err := wazero.NewCompilationCacheWithDir(cache)
	if err != nil {
		return err
	}
	defer compiled.Close(ctx)
	r := wazero.NewRuntimeWithConfig(ctx, wazero.NewRuntimeConfig().WithCompilationCache(compiled))
	defer r.Close(ctx)
	_, err = r.CompileModule(ctx, text)
	return err
}

// Compiler returns the version of the compiler: compiled code works with the same version only.
func Compiler() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, m := range info.Deps {
			if m.Path == "github.com/tetratelabs/wazero" {
				return m.Version
			}
		}
	}
	return "unknown"
}

// Work reads calls and answers them, until there are no more.
func Work(ctx context.Context, calls io.Reader, answers io.Writer) error {
	in := bufio.NewReaderSize(calls, 64<<10)
	var s start
	frame, err := receive(in)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(frame, &s); err != nil {
		return err
	}
	w := &worker{limit: s.MemoryLimit}
	err = w.load(ctx, s)
	if err != nil {
		return errors.Join(send(answers, of(s.ID, failed("Load", err))), err)
	}
	if err := send(answers, of(s.ID, []byte("{}"))); err != nil {
		return err
	}
	for {
		frame, err := receive(in)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		var call struct{ ID string }
		if err := json.Unmarshal(frame, &call); err != nil {
			return err
		}
		if frame, err = s.whole(frame); err != nil {
			return err
		}
		if err := send(answers, of(call.ID, w.call(ctx, frame))); err != nil {
			return err
		}
	}
}

// of sets the invocation of a reply; the last one counts.
func of(call string, body []byte) []byte {
	if len(body) < 2 || body[len(body)-1] != '}' {
		return body
	}
	tail := fmt.Appendf(nil, `"call":%q}`, call)
	if body = body[:len(body)-1]; len(body) > 1 {
		body = append(body, ',')
	}
	return append(body, tail...)
}

type worker struct {
	module  api.Module
	limit   int64
	fetched []byte // the platform's response, until the function reads it
	client  *http.Client
}

func (w *worker) load(ctx context.Context, s start) error {
	text, err := os.ReadFile(filepath.Join(s.Code, File))
	if err != nil {
		return fmt.Errorf("the archive has no %s: %w", File, err)
	}
	config := wazero.NewRuntimeConfig().WithMemoryLimitPages(uint32(min(s.MemoryLimit/page, 65536)))
	if s.Cache != "" {
		if cache, err := wazero.NewCompilationCacheWithDir(s.Cache); err == nil {
			config = config.WithCompilationCache(cache)
		}
	}
	r := wazero.NewRuntimeWithConfig(ctx, config)
	wasi_snapshot_preview1.MustInstantiate(ctx, r)
	host := r.NewHostModuleBuilder("rudmar")
	host.NewFunctionBuilder().WithFunc(w.reach).Export("reach")
	host.NewFunctionBuilder().WithFunc(w.fetch).Export("fetch")
	if _, err := host.Instantiate(ctx); err != nil {
		return err
	}
	options := wazero.NewModuleConfig().WithStdout(os.Stdout).WithStderr(os.Stderr).
		WithSysWalltime().WithSysNanotime().WithSysNanosleep().
		WithStartFunctions("_initialize").WithName("function").WithFSConfig(wazero.NewFSConfig().WithDirMount(os.Getenv("TMPDIR"), "/tmp"))
	for _, variable := range os.Environ() {
		if name, value, ok := bytes.Cut([]byte(variable), []byte("=")); ok {
			options = options.WithEnv(string(name), string(value))
		}
	}
	w.module, err = r.InstantiateWithConfig(ctx, text, options)
	if err == nil && (w.module.ExportedFunction("rudmar_call") == nil || w.module.ExportedFunction("rudmar_room") == nil) {
		err = errors.New("the module was not built for this platform: it does not export rudmar_call")
	}
	return err
}

// call runs the handler once.
func (w *worker) call(ctx context.Context, frame []byte) []byte {
	room, err := w.module.ExportedFunction("rudmar_room").Call(ctx, uint64(len(frame)))
	if err != nil {
		return w.broken(err)
	}
	if !w.module.Memory().Write(uint32(room[0]), frame) {
		return failed("Call", errors.New("the event does not fit into the function's memory"))
	}
	at, err := w.module.ExportedFunction("rudmar_call").Call(ctx)
	if err != nil {
		return w.broken(err)
	}
	body, ok := w.module.Memory().Read(uint32(at[0]>>32), uint32(at[0]))
	if !ok {
		return failed("Answer", errors.New("the response is outside the function's memory"))
	}
	return w.measured(bytes.Clone(body))
}

// measured adds the size of the function's memory to a reply.
func (w *worker) measured(body []byte) []byte {
	if len(body) < 2 || body[0] != '{' {
		return body
	}
	return append(fmt.Appendf(nil, `{"peak":%d,`, w.module.Memory().Size()), body[1:]...)
}

// broken reports how the module ended. Go's runtime ends a program that gets no
// more memory; then as good as all pages are taken.
func (w *worker) broken(err error) []byte {
	size := int64(w.module.Memory().Size())
	if size+4<<20 >= w.limit {
		return fmt.Appendf(nil, `{"peak":%d,"memory":true,"error":{"kind":"OutOfMemory","message":"the function exceeded its memory limit"}}`, size)
	}
	return append([]byte(`{"broken":true,`), failed("Ended", err)[1:]...)
}

func failed(kind string, err error) []byte {
	said := map[string]string{"kind": kind, "message": err.Error()}
	if first, rest, more := strings.Cut(err.Error(), "\n"); more { // where in the module it ended
		said["message"], said["trace"] = first, first+"\n"+rest
	}
	body, _ := json.Marshal(map[string]any{"error": said}) // strings can always be marshaled
	return body
}

// reach asks the platform for the function, and keeps the answer for fetch.
func (w *worker) reach(ctx context.Context, m api.Module, method, methodSize, path, pathSize,
	body, bodySize uint32) uint64 {
	text := func(at, size uint32) []byte {
		b, _ := m.Memory().Read(at, size)
		return b
	}
	status, answer := w.ask(ctx, string(text(method, methodSize)), string(text(path, pathSize)),
		bytes.Clone(text(body, bodySize)))
	w.fetched = answer
	return uint64(status)<<32 | uint64(len(answer))
}

func (w *worker) fetch(_ context.Context, m api.Module, into uint32) {
	m.Memory().Write(into, w.fetched)
}

// maxAnswer is the most that the platform may answer to a function, in bytes.
const maxAnswer = 16 << 20

func (w *worker) ask(ctx context.Context, method, path string, body []byte) (int, []byte) {
	if w.client == nil {
		transport := &http.Transport{}
		if name := os.Getenv("RUDMAR_SOCKET"); name != "" {
			transport.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) {
				var d net.Dialer
				return d.DialContext(ctx, "unix", name)
			}
		}
		w.client = &http.Client{Transport: transport}
	}
	problem := func(err error) (int, []byte) {
		text, _ := json.Marshal(map[string]string{"detail": err.Error()}) // strings can always be marshaled
		return http.StatusBadGateway, text
	}
	r, err := http.NewRequestWithContext(ctx, method, os.Getenv("RUDMAR_DATA")+path, bytes.NewReader(body))
	if err != nil {
		return problem(err)
	}
	r.Header.Set("Authorization", "Bearer "+os.Getenv("RUDMAR_TOKEN"))
	response, err := w.client.Do(r)
	if err != nil {
		return problem(err)
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	if err != nil {
		return problem(err)
	}
	return response.StatusCode, answer
}

func receive(in io.Reader) ([]byte, error) {
	var head [4]byte
	if _, err := io.ReadFull(in, head[:]); err != nil {
		return nil, err
	}
	body := make([]byte, binary.BigEndian.Uint32(head[:]))
	_, err := io.ReadFull(in, body)
	return body, err
}

func send(out io.Writer, body []byte) error {
	_, err := out.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(body))), body...))
	return err
}
