package canon_test

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/gowebpki/jcs"

	"rudmar/core/canon"
)

func TestAppend(t *testing.T) {
	tests := []struct {
		v    any
		want string
	}{
		{nil, "null"}, {true, "true"}, {"a\"b\\c\n\u0001é€<>&\u2028", `"a\"b\\c\n\u0001é€<>&` + "\u2028" + `"`},
		{0.0, "0"}, {math.Copysign(0, -1), "0"},
		{1e21, "1e+21"}, {1e20, "100000000000000000000"}, {1e-7, "1e-7"}, {0.000001, "0.000001"}, {-1.5, "-1.5"},
		{5, "5"}, {int64(-7), "-7"},
		{[]string{"b", "a"}, `["b","a"]`}, {[]any{1, nil, []any{}}, `[1,null,[]]`},
		{map[string]any{"b": 1, "a": map[string]any{}}, `{"a":{},"b":1}`},
		{map[string]any{"\u20ac": 1, "\r": 2, "\ufb33": 3, "1": 4, "\U0001f600": 5, "\u0080": 6, "ö": 7},
			"{\"\\r\":2,\"1\":4,\"\u0080\":6,\"ö\":7,\"\u20ac\":1,\"\U0001f600\":5,\"\ufb33\":3}"},
		{struct {
			B int `json:"b"`
			A []int
		}{1, []int{2}}, `{"A":[2],"b":1}`},
	}
	for _, tt := range tests {
		if got, err := canon.Append(nil, tt.v); string(got) != tt.want || err != nil {
			t.Errorf("%v: %s %v, want %s", tt.v, got, err, tt.want)
		}
	}
	for _, bad := range []any{math.NaN(), math.Inf(1), func() {}, []any{math.NaN()}, map[string]any{"a": math.Inf(-1)}} {
		if _, err := canon.Append(nil, bad); err == nil {
			t.Errorf("%v was written", bad)
		}
	}
}

// The form agrees with another implementation of RFC 8785 over random values.
func TestAgainstAnotherImplementation(t *testing.T) {
	dice := rand.New(rand.NewPCG(8, 9))
	var random func(depth int) any
	text := func() string {
		letters := []rune("aB1 \"\\\n\té€\U0001f600/<")
		out := make([]rune, dice.IntN(6))
		for i := range out {
			out[i] = letters[dice.IntN(len(letters))]
		}
		return string(out)
	}
	random = func(depth int) any {
		switch kind := dice.IntN(6); {
		case kind == 0:
			return text()
		case kind == 1:
			return math.Float64frombits(dice.Uint64()&^(1<<62) | 1<<52)
		case kind == 2:
			return float64(dice.IntN(1000)) / 8
		case kind == 3 && depth > 0:
			list := make([]any, dice.IntN(4))
			for i := range list {
				list[i] = random(depth - 1)
			}
			return list
		case kind == 4 && depth > 0:
			m := map[string]any{}
			for range dice.IntN(4) {
				m[text()] = random(depth - 1)
			}
			return m
		}
		return dice.IntN(2) == 0
	}
	for range 3000 {
		v := map[string]any{"v": random(4)}
		plain, err := json.Marshal(v)
		if err != nil {
			continue
		}
		want, err := jcs.Transform(plain)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := canon.Append(nil, v); string(got) != string(want) || err != nil {
			t.Fatalf("%s: %s %v, want %s", plain, got, err, want)
		}
	}
}

func TestDigestAndEqual(t *testing.T) {
	a, _ := canon.Digest(map[string]any{"x": 1, "y": []any{"z"}})
	b, _ := canon.Digest(map[string]any{"y": []any{"z"}, "x": 1.0})
	if a != b || !strings.HasPrefix(a, "sha256:") || len(a) != 71 {
		t.Errorf("%s and %s", a, b)
	}
	for _, tt := range []struct {
		a, b any
		want bool
	}{{"a", "a", true}, {"a", "b", false}, {1, 1.0, true}, {nil, nil, true}, {nil, "", false},
		{[]any{"a"}, []string{"a"}, true}, {"1", 1, false},
		{map[string]any{"a": 1}, map[string]any{"a": 1, "b": nil}, false}} {
		if canon.Equal(tt.a, tt.b) != tt.want {
			t.Errorf("%v and %v: %v", tt.a, tt.b, !tt.want)
		}
	}
}
