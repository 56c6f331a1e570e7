package server

import (
	"context"
	"testing"

	"rudmar/engine"
	"rudmar/server/api"
)

// A delivery is shown while its cases run, also those whose end is not known.
func TestRunningCasesAreShown(t *testing.T) {
	s, db := stand(t, engine.Options{})
	for _, text := range []string{
		`INSERT INTO repositories (name, made_at) VALUES ('brambleford', 1)`,
		`INSERT INTO services (name, repository, dir, made_at) VALUES ('frostline', 'brambleford', '.', 1)`,
		`INSERT INTO versions (service, number, hash, branch, author, message, committed_at, built_at, content, manifests) VALUES ('frostline', 1, 'abc', 'main', 'wren', '', 1, 1, 'c', '{}')`,
		`INSERT INTO deliveries (service, version, stage, state, since) VALUES ('frostline', 1, 'trial', 'refused', 1)`,
		`INSERT INTO case_runs (service, version, stage, target, function, file, name, passed, body, at, running, again) VALUES
			('frostline', 1, 'trial', 'local/north', 'warn', 'a.yaml', 'first', 0, '', 1, 1, 0), ('frostline', 1, 'trial', 'local/north', 'warn', 'b.yaml', 'second', 1, '{}', 1, 0, 1)`,
	} {
		if _, err := db.ExecContext(context.Background(), text); err != nil {
			t.Fatal(text, err)
		}
	}
	answer, err := (&handlers{s}).GetDeliveryStage(t.Context(),
		api.GetDeliveryStageRequestObject{Service: "frostline", Version: 1, Stage: "trial"})
	if err != nil {
		t.Fatal(err)
	}
	cases := answer.(api.GetDeliveryStage200JSONResponse).Cases
	if len(cases) != 2 || !api.OrZero(cases[0].Running) || cases[0].Passed || api.OrZero(cases[1].Running) ||
		!api.OrZero(cases[1].Again) || !cases[1].Passed {
		t.Errorf("%+v", cases)
	}
}
