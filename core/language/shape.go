package language

// Form is the form of a value.
type Form uint8

// The forms.
const (
	TextForm Form = iota + 1
	NameForm
	IntegerForm
	NumberForm
	BoolForm
	SizeForm
	TimeForm
	ShareForm
	ChoiceForm
	TemplateForm
	RouteForm
	CronForm
	ZoneForm
	TargetForm
	PathForm
	VerbForm
	ResourceForm
	CELForm
	AnyForm
	ListForm
	MapForm
	ObjectForm
	EitherForm // a choice of texts, or a list of names
	DestinationForm
	TruthOrForm // true or false, or an object
)

// Shape describes the valid values of one place in a manifest. The check, the editor's help and the JSON Schema
// are all generated from it.
type Shape struct {
	Form     Form
	Choices  []string
	Min, Max float64 // plain numbers, sizes in bytes, times in seconds, shares from 0 to 1
	Step     float64
	Of       *Shape // of a list's items and a map's values
	Filled   bool   // an empty list is an error
	Keys     []Key
	// Underscores allows underscores in the keys of a map, as in settings.
	Underscores bool
}

// Key is one key of an object.
type Key struct {
	Name     string
	About    string
	Shape    *Shape
	Required bool
	BuiltIn  string // the default value; "" for none
}

// Key returns the key of a name, or nil.
func (s *Shape) Key(name string) *Key {
	for i := range s.Keys {
		if s.Keys[i].Name == name {
			return &s.Keys[i]
		}
	}
	return nil
}

// Names lists the names of the keys.
func (s *Shape) Names() []string {
	out := make([]string, len(s.Keys))
	for i, k := range s.Keys {
		out[i] = k.Name
	}
	return out
}

// NamesItsKeys reports that the keys of a map are names of things, such as
// triggers, and not free texts.
func (s *Shape) NamesItsKeys() bool { return s.Of.Form == ObjectForm || s.Of.Form == CELForm }
