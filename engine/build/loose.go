package build

import (
	"context"
	"errors"
	"io/fs"
	"os"

	"rudmar/core/manifest"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// knownLoose is how many archives of folders without a commit are remembered.
const knownLoose = 2000

// Packed is the result of Pack.
type Packed struct {
	Digest string
	Made   bool // it did not exist before
}

// Pack builds a function's archive from a folder without a commit, or finds it; no version refers to it. log
// receives the output of commands.
func (b *Builder) Pack(ctx context.Context, folder *source.Folder, fn *manifest.Function,
	log func(text string)) (Packed, error) {
	_, sources, err := madeFrom(Choose(folder, fn), fn)
	if err != nil {
		return Packed{}, err
	}
	if digest, ok := b.loose.Get(sources); ok {
		if _, err := os.Stat(b.file(digest)); err == nil {
			return Packed{Digest: digest}, nil
		}
	}
	wrote := &buildLog{change: func() {}}
	f, _, err := b.function(ctx, folder, fn, wrote)
	log(wrote.String())
	if err != nil {
		return Packed{}, err
	}
	b.loose.Add(sources, f.Digest)
	return Packed{f.Digest, true}, nil
}

// DeleteUnreferenced removes archives that were packed for no version.
func (b *Builder) DeleteUnreferenced(ctx context.Context, digests []string) error {
	var errs error
	for _, digest := range digests {
		if _, err := b.store.Artifact(ctx, digest); !errors.Is(err, store.ErrNotFound) {
			errs = errors.Join(errs, err) // a version refers to it
			continue
		}
		if err := os.Remove(b.file(digest)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			errs = errors.Join(errs, err)
		}
	}
	return errs
}
