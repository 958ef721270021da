package star_test

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/star"
)

type object = map[string]any

// fault says what a schema has against a part of a file, as far as our schemas go: nothing if it holds.
func fault(schema object, defs object, n *yaml.Node, path string) string {
	if to, ok := schema["$ref"].(string); ok {
		def, known := defs[strings.TrimPrefix(to, "#/$defs/")].(object)
		if !known {
			return path + ": no definition of " + to
		}
		if f := fault(def, defs, n, path); f != "" {
			return f
		}
	}
	kind := map[yaml.Kind]string{yaml.MappingNode: "object", yaml.SequenceNode: "array", yaml.ScalarNode: "string"}[n.Kind]
	if n.Tag == "!!null" {
		kind = "null"
	}
	switch types := schema["type"].(type) {
	case string:
		if types != kind {
			return path + ": no " + types
		}
	case []any:
		if !slices.Contains(types, any(kind)) {
			return fmt.Sprint(path, ": none of ", types)
		}
	}
	if options, ok := schema["enum"].([]any); ok && (kind != "string" || !slices.Contains(options, any(n.Value))) {
		return fmt.Sprint(path, ": none of ", options)
	}
	if any, ok := schema["anyOf"].([]any); ok {
		var faults []string
		for _, s := range any {
			faults = append(faults, fault(s.(object), defs, n, path))
		}
		if !slices.Contains(faults, "") {
			return strings.Join(faults, " and ")
		}
	}
	if kind == "array" {
		for _, c := range n.Content {
			if items, ok := schema["items"].(object); ok {
				if f := fault(items, defs, c, path+"[]"); f != "" {
					return f
				}
			}
		}
	}
	if kind != "object" {
		return ""
	}
	properties, _ := schema["properties"].(object)
	given := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		name, value := n.Content[i].Value, n.Content[i+1]
		given[name] = true
		s, known := properties[name].(object)
		if !known {
			if s, known = schema["additionalProperties"].(object); !known && schema["additionalProperties"] == false {
				return path + ": no such key: " + name
			}
		}
		if f := fault(s, defs, value, path+"."+name); f != "" {
			return f
		}
	}
	required, _ := schema["required"].([]any)
	for _, name := range required {
		if !given[name.(string)] {
			return fmt.Sprint(path, ": ", name, " is missing")
		}
	}
	return ""
}

func schema(t *testing.T) object {
	text, err := json.Marshal(star.Schema())
	if err != nil {
		t.Fatal(err)
	}
	var s object
	if err := json.Unmarshal(text, &s); err != nil {
		t.Fatal(err)
	}
	return s
}

func judge(t *testing.T, s object, model string) string {
	var n yaml.Node
	if err := yaml.Unmarshal([]byte(model), &n); err != nil {
		t.Fatal(err)
	}
	return fault(s, s["$defs"].(object), n.Content[0], "")
}

// TestSchema holds the schema against the table that reads models: it has every key with its meaning, lets real
// models pass, and refuses what the reader refuses for its keys and forms.
func TestSchema(t *testing.T) {
	s := schema(t)
	defs := s["$defs"].(object)
	for _, section := range star.Sections() {
		properties := defs[section.Title].(object)["properties"].(object)
		if len(properties) != len(section.Entries) {
			t.Errorf("%s: %d keys, the schema has %d", section.Title, len(section.Entries), len(properties))
		}
		for _, e := range section.Entries {
			if p, ok := properties[e.Name].(object); !ok || p["description"] != e.Doc {
				t.Errorf("%s.%s is not in the schema as in the table: %v", section.Title, e.Name, p)
			}
		}
	}
	reference, err := os.ReadFile("../../bench/reference/ironmonger.yaml")
	if err != nil {
		t.Fatal(err)
	}
	demo, err := os.ReadFile("../demo/files/ironmonger.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for _, model := range []string{string(demo), string(reference)} {
		if f := judge(t, s, model); f != "" {
			t.Error(f)
		}
	}
	// Every key of a real model, misspelt, and the value of every key, turned into what it cannot be.
	mistakes := 0
	var spoil func(n *yaml.Node, root *yaml.Node)
	spoil = func(n, root *yaml.Node) {
		check := func(what string) {
			text, err := yaml.Marshal(root)
			if err != nil {
				t.Fatal(err)
			}
			_, mistake := star.Parse("model.yaml", text, star.Outside{})
			f := judge(t, s, string(text))
			if f != "" && mistake == nil {
				t.Errorf("%s: the schema refuses what is right: %s", what, f)
			}
			if f == "" && mistake != nil && strings.Contains(mistake.Error(), "no such key") {
				t.Errorf("%s: the schema lets pass: %v", what, mistake)
			}
			if f != "" {
				mistakes++
			}
		}
		for i, c := range n.Content {
			if n.Kind == yaml.MappingNode && i%2 == 0 {
				was := c.Value
				c.Value += "x"
				check(was + " misspelt")
				c.Value = was
				value := *n.Content[i+1]
				*n.Content[i+1] = yaml.Node{Kind: yaml.SequenceNode, Content: []*yaml.Node{{Kind: yaml.SequenceNode}}}
				check(was + " as a list of a list")
				*n.Content[i+1] = value
			}
			spoil(c, root)
		}
	}
	var n yaml.Node
	if err := yaml.Unmarshal(demo, &n); err != nil {
		t.Fatal(err)
	}
	spoil(n.Content[0], &n)
	if mistakes < 150 {
		t.Errorf("the schema has found %d mistakes only", mistakes)
	}
}
