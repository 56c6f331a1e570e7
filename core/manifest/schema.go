package manifest

import "strings"

// Schema gives the JSON Schema 2020-12 of one kind of file: ServiceFile,
// FunctionFile or CasesFolder for a case. It is made from the definitions that
// Check uses, so that editors complete and check by the same rules.
func (l *Language) Schema(file string) map[string]any {
	s, title := l.service, "A service"
	nullable := false
	switch file {
	case FunctionFile:
		s, title, nullable = l.function, "A function", true
	case CasesFolder:
		s, title = l.caseFile, "A case"
	}
	out := jsonSchema(s, nullable)
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

// jsonSchema gives the schema of a shape. nullable tells that null takes keys away.
func jsonSchema(s *shape, nullable bool) map[string]any {
	text := func(pattern string) map[string]any { return map[string]any{"type": "string", "pattern": pattern} }
	switch s.form {
	case formName:
		return text(namePattern)
	case formInteger:
		return map[string]any{"type": "integer", "minimum": s.min, "maximum": s.max}
	case formNumber:
		return map[string]any{"type": "number", "minimum": s.min, "maximum": s.max}
	case formBool:
		return map[string]any{"type": "boolean"}
	case formSize:
		return text(sizePattern)
	case formTime:
		return text(timePattern)
	case formShare:
		return text(sharePattern)
	case formChoice:
		return map[string]any{"enum": anys(s.choices)}
	case formRoute:
		return text(`^\s*(GET|HEAD|POST|PUT|PATCH|DELETE|OPTIONS|ANY)\s+/\S*\s*$`)
	case formCron:
		return text(cronPattern)
	case formTarget:
		return text(targetPattern)
	case formResource:
		return text(resourcePattern)
	case formTemplate, formText:
		// What YAML reads as a number or a truth value is a text here too.
		return map[string]any{"type": []any{"string", "number", "boolean"}}
	case formAny:
		return map[string]any{}
	case formEither:
		return map[string]any{"anyOf": []any{
			map[string]any{"enum": anys(s.choices)},
			map[string]any{"type": "array", "items": text(namePattern)},
		}}
	case formList:
		return map[string]any{"type": "array", "items": jsonSchema(s.of, false)}
	case formMap:
		out := map[string]any{"type": "object", "additionalProperties": orNull(jsonSchema(s.of, nullable), nullable)}
		if s.of.form == formObject || s.of.form == formCEL {
			pattern := namePattern
			if s.underscores {
				pattern = strings.Replace(namePattern, "0-9-", "0-9_-", 1)
			}
			out["propertyNames"] = map[string]any{"pattern": pattern}
		}
		return out
	case formObject:
		return objectSchema(s, nullable)
	}
	return map[string]any{"type": "string"}
}

func objectSchema(s *shape, nullable bool) map[string]any {
	properties, required := map[string]any{}, []any{}
	for _, k := range s.keys {
		p := orNull(jsonSchema(k.shape, nullable), nullable && !k.required)
		p["description"] = k.about
		if k.builtIn != "" {
			p["default"] = k.builtIn
			switch k.shape.form {
			case formInteger, formNumber, formBool:
				p["default"] = coreScalar(k.builtIn)
			}
		}
		properties[k.name] = p
		if k.required {
			required = append(required, k.name)
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
