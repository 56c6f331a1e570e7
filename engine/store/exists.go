package store

import (
	"context"
	"slices"
	"strings"

	"rudmar/core/rights"
)

// HasService reports whether there is a service of a name, or was one.
func (s *Store) HasService(ctx context.Context, name string) (bool, error) {
	return one(ctx, s.read, scanBool, `SELECT EXISTS (SELECT 1 FROM services WHERE name = ?)`, name)
}

// CheckStage returns an ErrNotFound if no version of a service has, or had, a stage of a name. A service without
// versions has no stages yet, so any name passes.
func (s *Store) CheckStage(ctx context.Context, service, stage string) error {
	known, err := one(ctx, s.read, scanBool, `SELECT EXISTS (SELECT 1 FROM stages WHERE service = ? AND stage = ?)
		OR EXISTS (SELECT 1 FROM deliveries WHERE service = ? AND stage = ?)`, service, stage, service, stage)
	if err != nil || known {
		return err
	}
	names, err := list(ctx, s.read, scanName, `SELECT stage FROM deliveries WHERE service = ?
		GROUP BY stage ORDER BY max(version) DESC, max(rowid)`, service)
	if err != nil || len(names) == 0 {
		return err
	}
	return NotFound("unknown stage %q of %s (expected %s)", stage, service, strings.Join(names, ", "))
}

// CheckFunction returns an ErrNotFound if no version of a service has, or had, a function of a name. A service
// without versions has no functions yet, so any name passes.
func (s *Store) CheckFunction(ctx context.Context, service, function string) error {
	known, err := one(ctx, s.read, scanBool, `SELECT NOT EXISTS (SELECT 1 FROM versions WHERE service = ?)
		OR EXISTS (SELECT 1 FROM version_functions WHERE service = ? AND function = ?)`, service, service, function)
	if err != nil || known {
		return err
	}
	return NotFound("function %q not found: no version of %s has it", function, service)
}

func scanName(r scanner) (string, error) {
	var name string
	err := r.Scan(&name)
	return name, err
}

// CheckScope returns an ErrNotFound if a scope's repository, service or stage does not exist.
func (s *Store) CheckScope(ctx context.Context, in rights.Scope) error {
	switch {
	case in.Repository != "":
		names, err := s.Repositories(ctx)
		if err == nil && !slices.Contains(names, in.Repository) {
			err = NotFound("repository %q not found (expected %s)", in.Repository, strings.Join(names, ", "))
		}
		return err
	case in.Service == "":
		return nil
	}
	if _, err := s.Service(ctx, in.Service); err != nil {
		return Missing(err, "service %q", in.Service)
	}
	if in.Stage == "" {
		return nil
	}
	return s.CheckStage(ctx, in.Service, in.Stage)
}
