package plan_test

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"rudmar/core/impact"
	"rudmar/core/metrics"
	"rudmar/core/plan"
)

// Plans match docs/plan.schema.json, without additional fields.
func TestPlanDocumentsMatchTheirSchema(t *testing.T) {
	text, err := os.ReadFile("../../docs/plan.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	described, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("plan.schema.json", described); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("plan.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	for seed := range uint64(200) {
		dice := rand.New(rand.NewPCG(seed, 37))
		in := settled(random(dice))
		in.Wanted = random(dice)
		in.Files = map[string][]string{"a": {"a.py"}}
		sum := metrics.Sum{Invocations: 9, MaxMs: 5, MemoryPeak: 1 << 40, TotalMs: 50}
		in.Seen = &impact.Figures{Now: time.Unix(1_700_000_000, 0), Over: time.Hour, Here: map[string]metrics.Sum{"a": sum, "b": sum},
			Rates: metrics.Rates{PerGiBSecond: "1", Currency: "EUR"}}
		if len(in.Actual) > 1 && seed%2 == 0 {
			in.Actual = in.Actual[1:]
		}
		written, err := json.Marshal(plan.Compute(in))
		if err != nil {
			t.Fatal(err)
		}
		document, err := jsonschema.UnmarshalJSON(bytes.NewReader(written))
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(document); err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, written)
		}
	}
}
