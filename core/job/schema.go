package job

import "encoding/json"

// object is one of JSON.
type object = map[string]any

// filled is what a text is that has variables in it: what they make of it, is known
// when they are.
var filled = object{"type": "string", "pattern": `\$`}

// Schema is the JSON Schema (draft 2020-12) of job files, for editors and for checks
// outside. What it refuses, Parse refuses, too; what depends on several keys or on
// variables, only Parse knows.
func (l *Language) Schema() ([]byte, error) {
	commands, defaults := object{}, object{}
	var one []any
	for _, c := range l.Commands {
		keys := object{}
		for _, k := range c.Keys {
			keys[k.Name] = k.schema()
		}
		commands[c.Name] = object{"description": c.Help, "type": []string{"object", "null"}, "additionalProperties": false, "properties": keys}
		defaults[c.Name] = object{"allOf": []any{object{"$ref": "#/$defs/" + c.Name}, object{"type": "object"}}}
		one = append(one, object{"required": []string{c.Name}})
	}
	variable := object{"pattern": wholeName.String()}
	text := object{"$ref": "#/$defs/text"}
	job := object{
		nameKey:    text,
		followsKey: object{"description": "jobs before this one, all of which must be done", "$ref": "#/$defs/texts"},
		evenIfKey:  object{"description": "run it also after a job that it follows has failed", "enum": []any{evenIfFailed}},
		needsKey:   object{"description": "how much of its archives must succeed", "type": "string", "pattern": `^([1-9][0-9]?|100)%$`},
		repeatKey: object{"description": "run it once for each value, or each combination of several", "type": "object", "minProperties": 1, "propertyNames": variable,
			"additionalProperties": object{"type": "array", "items": text, "minItems": 1}},
	}
	for _, c := range l.Commands {
		job[c.Name] = object{"$ref": "#/$defs/" + c.Name}
	}
	file := object{
		versionKey: object{"enum": []any{1, "1"}, "description": "the version of job files"},
		varsKey: object{"description": "variables, used as ${name}", "type": "object", "propertyNames": variable,
			"additionalProperties": text},
		envKey:      object{"description": "variables of the environment that are used", "type": "array", "items": object{"type": "string", "pattern": wholeName.String()}},
		defaultsKey: object{"description": "the options of all jobs with a command that do not set them", "type": "object", "additionalProperties": false, "properties": defaults},
		jobsKey: object{"type": "array", "minItems": 1, "items": object{"type": "object", "additionalProperties": false, "required": []string{nameKey},
			"properties": job, "oneOf": one}},
	}
	for _, k := range l.Common {
		file[k.Name] = k.schema()
	}
	defs := commands
	defs["text"] = object{"type": []string{"string", "number", "boolean"}}
	defs["texts"] = object{"anyOf": []any{text, object{"type": "array", "items": text, "minItems": 1}}}
	defs["switch"] = object{"anyOf": []any{object{"type": "boolean"}, filled}}
	defs["rows"] = object{"anyOf": []any{text, object{"type": "array", "minItems": 1,
		"items": object{"type": "array", "items": text, "minItems": 2, "maxItems": 2}}}}
	b, err := json.MarshalIndent(object{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "A job file of widecrate",
		"type": "object", "additionalProperties": false, "required": []string{versionKey, jobsKey},
		"properties": file, "$defs": defs,
	}, "", "  ")
	return append(b, '\n'), err
}

// schema is that of a value.
func (k *Key) schema() object {
	var s object
	switch k.Form {
	case Texts:
		s = object{"$ref": "#/$defs/texts"}
	case Switch:
		s = object{"$ref": "#/$defs/switch"}
	case Rows:
		s = object{"$ref": "#/$defs/rows"}
	case Number:
		s = object{"anyOf": []any{object{"type": "integer", "minimum": k.Least}, object{"type": "string", "pattern": `^[0-9]+$`}, filled}}
	case Word:
		s = object{"anyOf": []any{object{"enum": k.Words}, filled}}
	default:
		s = object{"$ref": "#/$defs/text"}
	}
	s["description"] = k.Help
	return s
}
