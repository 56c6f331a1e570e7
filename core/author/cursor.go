package author

import "strings"

// context describes the position of a cursor.
type context struct {
	path      []string
	value     bool            // after a key's colon
	reference bool            // after ${
	present   map[string]bool // keys in the same mapping
	of        string          // the value of resource: on the same line
	verbs     []string        // the items of allow: on the same line
	listed    []string        // the other items of the list in brackets on the same line
	own       string          // the name of the stage or function that the line belongs to
}

// key returns the innermost key, or "".
func (c context) key() string {
	if len(c.path) == 0 {
		return ""
	}
	return c.path[len(c.path)-1]
}

// contextAt finds the keys that lead to a place by indentation, and within the
// line by its braces.
func contextAt(text string, line, column int) context {
	lines := strings.Split(text, "\n")
	if line < 1 || line > len(lines) {
		return context{}
	}
	runes := []rune(lines[line-1])
	split := max(0, min(column-1, len(runes)))
	before, after := string(runes[:split]), string(runes[split:])
	c := context{present: map[string]bool{}}
	dash := isItem(before)
	c.path = parents(lines, line-1, indentOf(before), dash)
	c.inLine(strings.TrimLeft(strings.TrimLeft(before, " "), "- "))
	if _, of, ok := strings.Cut(lines[line-1], "resource:"); ok {
		c.of = strings.Trim(strings.TrimSpace(of), `"'{} `)
	}
	if _, verbs, ok := strings.Cut(lines[line-1], "allow: ["); ok {
		verbs, _, _ = strings.Cut(verbs, "]")
		c.verbs = itemsOf(verbs)
	}
	if open := strings.LastIndex(before, "["); open > strings.LastIndex(before, "]") {
		items := before[open+1:]
		if last := strings.LastIndex(items, ","); last >= 0 {
			c.listed = itemsOf(items[:last])
		}
		if rest, ok := strings.CutPrefix(strings.TrimLeft(after, " "), ","); ok {
			rest, _, _ = strings.Cut(rest, "]")
			c.listed = append(c.listed, itemsOf(rest)...)
		}
	}
	c.own = ownName(lines, line-1)
	if open := strings.LastIndex(before, "${"); open >= 0 && !strings.Contains(before[open:], "}") {
		c.reference = true
	}
	if strings.LastIndex(before, "{") > strings.LastIndex(before, "}") {
		c.following(after)
	}
	if !strings.Contains(before, "{") {
		c.siblings(lines, line-1, indentOf(before))
	}
	return c
}

// itemsOf returns the items of a list in brackets.
func itemsOf(text string) (out []string) {
	for _, item := range strings.Split(text, ",") {
		if item = strings.Trim(strings.TrimSpace(item), `"'`); item != "" {
			out = append(out, item)
		}
	}
	return out
}

// ownName returns the stage whose item a line belongs to, or else the function of the file.
func ownName(lines []string, at int) string {
	value := func(line, key string) string {
		if _, v, ok := strings.Cut(line, key+":"); ok {
			v, _, _ = strings.Cut(v, ",")
			return strings.Trim(strings.TrimSpace(v), `"'{}`)
		}
		return ""
	}
	for i := at; i >= 0; i-- {
		if isItem(lines[i]) || i == at && strings.Contains(lines[i], "stage:") {
			if name := value(lines[i], "stage"); name != "" {
				return name
			}
		}
	}
	for _, l := range lines {
		if strings.HasPrefix(l, "function:") {
			return value(l, "function")
		}
	}
	return ""
}

func isItem(s string) bool { return strings.HasPrefix(strings.TrimLeft(s, " "), "- ") }

// indentOf returns the column of the first key of a line, behind a list's dash.
func indentOf(s string) int { return len(s) - len(strings.TrimLeft(s, " -")) }

// keyOf returns the key of a line, or "".
func keyOf(s string) string {
	s = strings.TrimLeft(s, " -")
	key, _, found := strings.Cut(s, ":")
	if !found || key == "" || strings.ContainsAny(key, " {[#\"'") {
		return ""
	}
	return key
}

// parents returns the keys above a line with an indentation.
func parents(lines []string, at, indent int, dash bool) []string {
	var path []string
	if dash {
		indent-- // the dash itself can be in the column of the parent's key
	}
	for i := at - 1; i >= 0 && indent > 0; i-- {
		trimmed := strings.TrimSpace(lines[i])
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		own := indentOf(lines[i])
		key := keyOf(lines[i])
		if own >= indent || key == "" || dash && isItem(lines[i]) {
			continue
		}
		// A key with a value after it is not a parent but a sibling.
		if rest := strings.TrimSpace(trimmed[strings.Index(trimmed, ":")+1:]); rest != "" && !strings.HasPrefix(rest, "#") {
			if !isItem(lines[i]) {
				continue
			}
			indent, dash = own-1, true
			continue
		}
		path = append([]string{key}, path...)
		indent, dash = own, isItem(lines[i])
		if dash {
			indent--
		}
	}
	return path
}

// inLine parses the braces before the cursor in its line.
func (c *context) inLine(s string) {
	type level struct {
		key     string
		present map[string]bool
	}
	var open []level
	key, word, present := "", "", c.present
	var quote rune
	for _, r := range s {
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case r == '"' || r == '\'':
			quote, word = r, ""
		case r == ':':
			key, word = strings.TrimSpace(word), ""
			present[key] = true
		case r == '{' || r == '[':
			open = append(open, level{key, present})
			if r == '{' {
				key, present = "", map[string]bool{}
			}
			word = ""
		case (r == '}' || r == ']') && len(open) > 0:
			key, present = open[len(open)-1].key, open[len(open)-1].present
			open = open[:len(open)-1]
		case r == ',':
			if len(open) > 0 && len(present) > 0 && key != "" && open[len(open)-1].key != key {
				key = ""
			}
			word = ""
		default:
			word += string(r)
		}
	}
	for i, l := range open {
		if l.key != "" && (i == 0 || open[i-1].key != l.key) {
			c.path = append(c.path, l.key)
		}
	}
	if key != "" && (len(open) == 0 || open[len(open)-1].key != key) {
		c.path = append(c.path, key)
		c.value = true
	} else if key != "" {
		c.value = true
	}
	c.present = present
}

// following gathers the keys of the same braces behind the cursor.
func (c *context) following(s string) {
	depth, word := 0, ""
	var quote rune
	for _, r := range s {
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case r == '"' || r == '\'':
			quote = r
		case r == '{' || r == '[':
			depth++
		case r == '}' || r == ']':
			if depth--; depth < 0 {
				return
			}
		case r == ':' && depth == 0:
			c.present[strings.TrimSpace(word)] = true
			word = ""
		case r == ',' && depth == 0:
			word = ""
		case depth == 0:
			word += string(r)
		}
	}
}

// siblings gathers the keys of the mapping that the line at an indentation belongs to.
func (c *context) siblings(lines []string, at, indent int) {
	for _, step := range []int{-1, 1} {
		for i := at + step; i >= 0 && i < len(lines); i += step {
			if strings.TrimSpace(lines[i]) == "" {
				continue
			}
			own := indentOf(lines[i])
			if own < indent || step > 0 && isItem(lines[i]) && own == indent {
				break
			}
			if own == indent {
				c.present[keyOf(lines[i])] = true
			}
			if isItem(lines[i]) && own == indent {
				break
			}
		}
	}
}
