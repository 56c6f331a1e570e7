package deliver

import (
	"errors"
	"log/slog"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
)

// A transition that another worker has made fails for the late one: the delivery continues. An error of its own
// fails it.
func TestLateWorkerIsIgnored(t *testing.T) {
	for _, tt := range []struct {
		what  string
		since bool // its deployment was requested since it was read
		want  delivery.State
	}{
		{"late", true, delivery.Deploying},
		{"alone", false, delivery.Failed},
	} {
		s := opened(t, time.Now)
		l := New(Config{Store: s, Planner: deploy.NewPlanner(s, nil, nil, nil), Log: slog.New(slog.DiscardHandler)})
		unreadable(t, s)
		if err := s.StartDelivery(t.Context(), "frostline", 1, []string{"preview"}, nil); err != nil {
			t.Fatal(err)
		}
		read := func() store.Delivery {
			t.Helper()
			d, err := s.Delivery(t.Context(), "frostline", 1, "preview")
			if err != nil {
				t.Fatal(err)
			}
			return d
		}
		if err := l.apply(t.Context(), read(), delivery.Enter, "", ""); err != nil {
			t.Fatal(err)
		}
		taken := read()
		if tt.since {
			if err := l.apply(t.Context(), taken, delivery.Planned, "", ""); err != nil {
				t.Fatal(err)
			}
		}
		err := l.move(t.Context(), taken) // it cannot be planned
		if now := read(); now.State != tt.want || errors.Is(err, store.ErrMoved) != tt.since {
			t.Errorf("%s: it is %s, %v", tt.what, now.State, err)
		}
	}
}

// opened opens a store of its own for a test.
func opened(t *testing.T, now func() time.Time) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), t.TempDir(), now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// unreadable adds version 1 of a service, whose manifests cannot be read.
func unreadable(t *testing.T, s *store.Store) {
	t.Helper()
	ctx := t.Context()
	err := errors.Join(s.AddRepository(ctx, "brambleford", "wren"),
		s.AddService(ctx, store.Service{Name: "frostline", Repository: "brambleford"}, true, "wren"),
		s.RecordHead(ctx, store.Head{Repository: "brambleford", Branch: "main", Hash: "abc",
			Builds: []store.Build{{Service: "frostline", Hash: "abc", Branch: "main", Person: "wren"}}}))
	if err != nil {
		t.Fatal(err)
	}
	queued, err := s.QueuedBuilds(ctx)
	if err != nil || len(queued) != 1 {
		t.Fatal(queued, err)
	}
	if _, _, err := s.FinishBuild(ctx, store.Built{Build: queued[0],
		Version: store.Version{Service: "frostline", Hash: "abc", Manifests: map[string]string{"rudmar.yaml": "x"}},
		Attest:  func(int) (store.Provenance, error) { return store.Provenance{Envelope: "e", Contents: "c"}, nil },
	}); err != nil {
		t.Fatal(err)
	}
}
