package plan

import "sort"

// Drifted is a resource that is live otherwise than it was recorded.
type Drifted struct {
	Address  string `json:"address"`
	Kind     string `json:"kind"`
	Function string `json:"function"`
	// Vanished tells that it is recorded but not live; Unknown that it is live but not recorded.
	Vanished   bool            `json:"vanished,omitempty"`
	Unknown    bool            `json:"unknown,omitempty"`
	Attributes []DriftedDetail `json:"attributes"`
}

// DriftedDetail is one attribute that differs. Absent values are null.
type DriftedDetail struct {
	Name     string `json:"name"`
	Recorded any    `json:"recorded"`
	Live     any    `json:"live"`
	Unit     string `json:"unit,omitempty"`
}

// Drift compares the record with live, attribute by attribute, sorted by address.
func Drift(record []Recorded, live []Live, kinds []KindSpec) []Drifted {
	b := newBuilder(Inputs{Record: record, Live: live, Kinds: kinds})
	out := []Drifted{}
	for i := range record {
		r := &record[i]
		d := Drifted{Address: r.Address, Kind: r.Kind, Function: r.Function, Attributes: []DriftedDetail{}}
		l := b.live[r.Address]
		if l == nil {
			d.Vanished = true
			out = append(out, d)
			continue
		}
		there := b.settable(r.Kind, l.Attributes)
		for _, name := range differences(r.Attributes, there) {
			d.Attributes = append(d.Attributes,
				DriftedDetail{Name: name, Recorded: r.Attributes[name], Live: there[name], Unit: b.spec(r.Kind, name).Unit})
		}
		if len(d.Attributes) > 0 {
			out = append(out, d)
		}
	}
	for i := range live {
		if b.record[live[i].Address] == nil {
			out = append(out, Drifted{Address: live[i].Address, Kind: live[i].Kind, Unknown: true,
				Attributes: []DriftedDetail{}})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Address < out[j].Address })
	return out
}
