package language

import (
	"encoding/json"
	"strings"
)

// Schema returns the JSON Schema 2020-12 of one kind of file: ServiceFile, FunctionFile or CasesFolder for a
// case. It is generated from the definitions that Check uses, so editors complete and check by the same rules.
func (l *Language) Schema(file string) map[string]any {
	title, nullable := "A service", false
	switch file {
	case FunctionFile:
		title, nullable = "A function", true
	case CasesFolder:
		title = "A case"
	}
	out := jsonSchema(l.Of(file), nullable)
	out["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	out["title"] = title
	return out
}

const (
	namePattern     = `^[a-z][a-z0-9-]{0,39}$`
	sizePattern     = `^\s*[0-9]+(\.[0-9]+)?\s*(KiB|MiB|GiB)\s*$`
	timePattern     = `^\s*([0-9]+(\.[0-9]+)?\s*(ms|s|m|h|d)\s*)+$`
	sharePattern    = `^\s*[0-9]+(\.[0-9]+)?\s*%\s*$`
	cronPattern     = `^\s*\S+(\s+\S+){4}\s*$`
	targetPattern   = `^[a-z][a-z0-9-]{0,39}/[a-z][a-z0-9-]{0,39}$`
	resourcePattern = `^(\*|[^/\s]+/\S+)$`
)

// jsonSchema returns the schema of a shape. nullable reports that null removes keys.
func jsonSchema(s *Shape, nullable bool) map[string]any {
	text := func(pattern string) map[string]any { return map[string]any{"type": "string", "pattern": pattern} }
	switch s.Form {
	case NameForm:
		return text(namePattern)
	case IntegerForm:
		return map[string]any{"type": "integer", "minimum": s.Min, "maximum": s.Max}
	case NumberForm:
		return map[string]any{"type": "number", "minimum": s.Min, "maximum": s.Max}
	case BoolForm:
		return map[string]any{"type": "boolean"}
	case SizeForm:
		return text(sizePattern)
	case TimeForm:
		return text(timePattern)
	case ShareForm:
		return text(sharePattern)
	case ChoiceForm:
		return map[string]any{"enum": anys(s.Choices)}
	case RouteForm:
		return text(`^\s*(GET|HEAD|POST|PUT|PATCH|DELETE|OPTIONS|ANY)\s+/\S*\s*$`)
	case CronForm:
		return text(cronPattern)
	case TargetForm:
		return text(targetPattern)
	case ResourceForm:
		return text(resourcePattern)
	case TemplateForm, TextForm:
		// Text that YAML reads as a number or a Boolean is text here too.
		return map[string]any{"type": []any{"string", "number", "boolean"}}
	case AnyForm:
		return map[string]any{}
	case DestinationForm:
		return text(destinationPattern.String())
	case TruthOrForm:
		return map[string]any{"anyOf": []any{map[string]any{"type": "boolean"}, objectSchema(s, false)}}
	case EitherForm:
		return map[string]any{"anyOf": []any{
			map[string]any{"enum": anys(s.Choices)},
			map[string]any{"type": "array", "items": text(namePattern)},
		}}
	case ListForm:
		return map[string]any{"type": "array", "items": jsonSchema(s.Of, false)}
	case MapForm:
		out := map[string]any{"type": "object", "additionalProperties": orNull(jsonSchema(s.Of, nullable), nullable)}
		if s.NamesItsKeys() {
			pattern := namePattern
			if s.Underscores {
				pattern = strings.Replace(namePattern, "0-9-", "0-9_-", 1)
			}
			out["propertyNames"] = map[string]any{"pattern": pattern}
		}
		return out
	case ObjectForm:
		return objectSchema(s, nullable)
	}
	return map[string]any{"type": "string"}
}

func objectSchema(s *Shape, nullable bool) map[string]any {
	properties, required := map[string]any{}, []any{}
	for _, k := range s.Keys {
		p := orNull(jsonSchema(k.Shape, nullable), nullable && !k.Required)
		p["description"] = k.About
		if k.BuiltIn != "" {
			p["default"] = k.BuiltIn
			switch k.Shape.Form {
			case IntegerForm, NumberForm, BoolForm, TruthOrForm:
				p["default"] = fromJSON(k.BuiltIn)
			}
		}
		properties[k.Name] = p
		if k.Required {
			required = append(required, k.Name)
		}
	}
	out := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}

func orNull(schema map[string]any, nullable bool) map[string]any {
	if !nullable || len(schema) == 0 {
		return schema
	}
	return map[string]any{"anyOf": []any{schema, map[string]any{"type": "null"}}}
}

func anys(words []string) []any {
	out := make([]any, len(words))
	for i, w := range words {
		out[i] = w
	}
	return out
}

func fromJSON(text string) any {
	var v any
	if json.Unmarshal([]byte(text), &v) != nil {
		return text
	}
	return v
}
