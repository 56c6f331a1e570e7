package build

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"github.com/google/renameio/v2"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// function packs one function's code, or finds the archive that was packed from the same sources before.
func (b *Builder) function(ctx context.Context, folder *source.Folder, fn *manifest.Function,
	log *buildLog) (store.VersionFunction, store.Artifact, error) {
	chosen := Choose(folder, fn)
	out := store.VersionFunction{Function: fn.Name}
	how, sum, err := madeFrom(chosen, fn)
	if err != nil {
		return out, store.Artifact{}, err
	}
	out.Sources = sum
	known, err := b.store.BuiltFrom(ctx, out.Sources)
	if err != nil {
		return out, store.Artifact{}, err
	}
	if known != "" {
		a, err := b.store.Artifact(ctx, known)
		if err != nil {
			return out, a, err
		}
		damage := b.damageOf(a)
		if damage == "" {
			out.Digest = known
			fmt.Fprintf(log, "%s: unchanged, %s\n", fn.Name, shortDigest(known))
			return out, a, nil
		}
		fmt.Fprintf(log, "%s: rebuilding its archive: %s\n", fn.Name, damage)
	}
	entries, err := sources(folder, fn, chosen)
	if err != nil {
		return out, store.Artifact{}, err
	}
	if !how.nothing() {
		fmt.Fprintf(log, "%s:\n", fn.Name)
		if entries, err = b.make(ctx, how, entries, fn.At("").Build.Exclude, log); err != nil {
			return out, store.Artifact{}, err
		}
	}
	a, err := b.keep(entries)
	out.Digest = a.Digest
	fmt.Fprintf(log, "%s: %s, %d bytes, %s\n", fn.Name, language.FormatCount(len(a.Listing), "file"), a.Bytes, shortDigest(a.Digest))
	return out, a, err
}

// madeFrom returns the recipe of a function's archive for its selected files, and a digest of both.
func madeFrom(chosen map[string]source.File, fn *manifest.Function) (recipe, string, error) {
	how, err := commandsFor(fn, func(name string) bool {
		_, ok := chosen[path.Join(fn.Code, name)]
		return ok
	})
	sources := sourcesDigest(chosen)
	if err == nil && !how.nothing() {
		sum := sha256.Sum256([]byte(sources + how.String() + strings.Join(fn.At("").Build.Exclude, "\x00")))
		sources = hex.EncodeToString(sum[:])
	}
	return how, sources, err
}

// sources reads the source files of a function.
func sources(folder *source.Folder, fn *manifest.Function, chosen map[string]source.File) ([]pack.Entry, error) {
	if err := folder.Load(slices.Collect(maps.Keys(chosen))); err != nil {
		return nil, err
	}
	var total int64
	var entries []pack.Entry
	for name, f := range chosen {
		if total += f.Size; total > pack.MaxBytes {
			return nil, fmt.Errorf("%w: the files have more than %d MiB; exclude some with build.exclude",
				pack.ErrTooLarge, pack.MaxBytes>>20)
		}
		content, err := folder.Read(name)
		if err != nil {
			return nil, err
		}
		entries = append(entries, pack.Entry{Path: inside(fn, name), Executable: f.Executable, Content: content})
	}
	return entries, nil
}

func shortDigest(d string) string { return strings.TrimPrefix(d, "sha256:")[:12] }

// Choose returns the files of a function's archive: those of its code folder, except manifests, cases, hidden
// files and the patterns of build.exclude.
func Choose(folder *source.Folder, fn *manifest.Function) map[string]source.File {
	out := map[string]source.File{}
	for _, f := range folder.Listed() {
		name := inside(fn, f.Path)
		switch {
		case name == "" || manifest.IsManifest(f.Path) || strings.HasPrefix(path.Base(name), "."):
		case strings.HasPrefix(name, "__pycache__/") || strings.Contains(name, "/__pycache__/"):
		case pack.Exclude(fn.At("").Build.Exclude, name):
		default:
			out[f.Path] = f
		}
	}
	return out
}

// inside returns a path relative to the code folder, "" for one outside it.
func inside(fn *manifest.Function, name string) string {
	if fn.Code == "." {
		return name
	}
	if rest, ok := strings.CutPrefix(name, fn.Code+"/"); ok {
		return rest
	}
	return ""
}

// sourcesDigest returns the digest of an archive's inputs.
func sourcesDigest(chosen map[string]source.File) string {
	names := make([]string, 0, len(chosen))
	for name := range chosen {
		names = append(names, name)
	}
	sort.Strings(names)
	h := sha256.New()
	for _, name := range names {
		f := chosen[name]
		fmt.Fprintf(h, "%v\x00%s\x00%s\x00", f.Executable, f.Blob, name)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// keep packs entries and stores the archive by its digest.
func (b *Builder) keep(entries []pack.Entry) (store.Artifact, error) {
	listing, err := pack.List(entries)
	if err != nil {
		return store.Artifact{}, err
	}
	var archive bytes.Buffer
	if err := pack.Write(&archive, entries); err != nil {
		return store.Artifact{}, err
	}
	sum := sha256.Sum256(archive.Bytes())
	a := store.Artifact{Digest: listing.Digest(), FileSHA256: hex.EncodeToString(sum[:]),
		Bytes: int64(archive.Len()), Listing: listing}
	name := b.file(a.Digest)
	if err := renameio.WriteFile(name, archive.Bytes(), 0o600); err != nil {
		return a, fmt.Errorf("storing an archive: %w", err)
	}
	return a, nil
}

// damageOf returns the damage of a stored archive; "" if it is intact.
func (b *Builder) damageOf(a store.Artifact) string {
	archive, err := os.ReadFile(b.file(a.Digest))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "missing"
	case err != nil:
		return "unreadable"
	case sha(archive) != a.FileSHA256:
		return "its bytes differ from the built ones"
	}
	return ""
}

func (b *Builder) file(digest string) string { return ArchiveFile(b.artifacts, digest) }

// ArchiveFile returns the path of an archive in a folder of archives.
func ArchiveFile(dir, digest string) string {
	return filepath.Join(dir, strings.TrimPrefix(digest, "sha256:")+".zip")
}

// Archive reads an archive and checks it against its digest.
func (b *Builder) Archive(digest string) ([]byte, []pack.Entry, error) {
	archive, err := os.ReadFile(b.file(digest))
	if err != nil {
		return nil, nil, fmt.Errorf("reading an archive: %w", err)
	}
	entries, err := pack.Read(archive, digest)
	return archive, entries, err
}
