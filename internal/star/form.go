package star

import (
	"regexp"
	"strings"
)

// object is a JSON Schema, or a part of one.
type object = map[string]any

// Schema returns the JSON Schema (draft 2020-12) of a model file, made of the same entries that read one. It is for
// editors, which complete and check by it; what it lets pass, [Read] may still refuse.
func Schema() object {
	sections := Sections()
	defs := object{
		"word":  object{"type": []string{"string", "number", "boolean"}},
		"words": object{"anyOf": []object{ref("word"), {"type": "array", "items": ref("word"), "uniqueItems": true}}},
	}
	for _, s := range sections {
		properties, required := object{}, []string{}
		for _, e := range s.Entries {
			p := form(sections, s.Title, e)
			p["description"] = e.Doc
			properties[e.Name] = p
			if e.Required {
				required = append(required, e.Name)
			}
		}
		// a section may be there with nothing in it
		def := object{
			"type":                 []string{"object", "null"},
			"description":          s.Doc,
			"properties":           properties,
			"additionalProperties": false,
		}
		if len(required) > 0 {
			def["required"] = required
		}
		defs[s.Title] = def
	}
	return object{
		"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title":   "A model of Ironmonger",
		"$ref":    "#/$defs/" + sections[0].Title,
		"$defs":   defs,
	}
}

func ref(title string) object { return object{"$ref": "#/$defs/" + title} }

func mapOf(values ...object) object {
	return object{"type": []string{"object", "null"}, "additionalProperties": object{"anyOf": values}}
}

var choices = regexp.MustCompile(`^[a-z0-9_-]+(, [a-z0-9_-]+)*( or [a-z0-9_-]+)?$`)

// form turns what an entry's value looks like, as the reference says it, into a schema.
func form(sections []Section, title string, e Entry) object {
	nested := ""
	for _, s := range sections { // the section of that name here, or else elsewhere
		under := strings.TrimSuffix(s.Title, ".NAME")
		if under == title+"."+e.Name || under == e.Name || nested == "" && strings.HasSuffix(under, "."+e.Name) {
			nested = s.Title
		}
	}
	switch {
	case e.Form == "keys":
		return ref(nested)
	case e.Form == "set_aside, leave_empty, unreadable, or keys":
		return object{"anyOf": []object{{"enum": []string{"set_aside", "leave_empty", "unreadable"}}, ref(nested)}}
	case e.Form == "keys, or a name":
		return object{"anyOf": []object{ref("word"), ref(nested)}}
	case e.Form == "none, or keys":
		return object{"anyOf": []object{{"const": "none"}, ref(nested)}}
	case e.Form == "names", e.Form == "name: keys":
		return mapOf(ref(nested))
	case e.Form == "a list of holidays":
		return object{"type": "array", "items": ref(nested)}
	case e.Form == "name: what, or keys":
		return mapOf(object{"enum": []string{FilePath, FileName, FileLine, Delivered}}, ref(nested))
	case e.Form == "column: parts":
		return mapOf(mapOf(ref("word")))
	case e.Form == "member: label, or keys":
		return mapOf(ref("word"), ref(nested))
	case strings.Contains(e.Form, "{"), strings.HasPrefix(e.Form, "next"):
		return object{"anyOf": []object{ref("word"), mapOf(ref("word"))}}
	case e.Form == "weekdays, a territory's code, or none", e.Form == "language tags":
		return ref("words")
	case e.Form == "name: type":
		return mapOf(ref("word"), ref(nested))
	case e.Form == "name: type, or a list":
		return object{"anyOf": []object{ref("words"), mapOf(ref("word"), ref(nested), object{"type": "null"})}}
	case e.Form == "column: meaning, or keys":
		return mapOf(ref("word"), ref("facts.NAME.words.NAME"))
	case e.Form == "folder: keys":
		return mapOf(ref("defaults.FOLDER"))
	case e.Form == "name: value, or a list":
		return object{"anyOf": []object{ref("words"), mapOf(ref("word"))}}
	case e.Form == "name: join":
		return mapOf(ref(nested))
	case e.Form == "name: expression" && nested != "":
		return mapOf(ref("word"), ref(nested))
	case e.Form == "name: key":
		return mapOf(ref("words"), ref(nested))
	case e.Form == "reason: condition" && nested != "":
		return mapOf(ref("word"), ref(nested))
	case e.Form == "name: expression",
		e.Form == "reason: condition",
		e.Form == "name: value",
		e.Form == "name: aggregate",
		e.Form == "name: column",
		e.Form == "measure: column or key",
		e.Form == "code: code":
		return mapOf(ref("word"))
	case e.Form == "a list of rows":
		return object{"type": "array", "items": mapOf(ref("word"), object{"type": "null"})}
	case strings.Contains(e.Form, "a list") && strings.Contains(e.Form, ": "):
		return object{"anyOf": []object{ref("words"), mapOf(ref("word"))}}
	case strings.Contains(e.Form, "a list"):
		return ref("words")
	case choices.MatchString(e.Form):
		return object{
			"enum": strings.FieldsFunc(
				strings.ReplaceAll(e.Form, " or ", ","),
				func(c rune) bool { return c == ',' || c == ' ' },
			),
		}
	}
	return ref("word")
}
