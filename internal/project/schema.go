package project

// form is what a key may hold.
type form int

const (
	formText form = iota
	formTexts
	formBool
	formCount
	formCalls
	formShell
	formEnv
	formTasks
	formSystems
	formArgs
	formScalar
	formNumber
	formEnvFiles
	formParts
	formPaths
	formStore
	formAfter
	formRetry
	formCodes
	formSystemTexts
	formWhen
	formWhenEnv
	formRequire
	formOrdered
	formEach
	formLists
	formOutput
	formReady
	formHold
	formServe
	formRestart
)

// String returns what f holds, in the words of the reference.
func (f form) String() string {
	return [...]string{"text", "text or list", "true or false", "whole number from 1", "call or list of calls",
		"text or list", "table of texts or tables", "tables", "tables", "tables", "text, number, true or false", "number", "list of texts or tables", "table of texts or tables",
		"text, list, or table of them", "table", "text", "table", "list of whole numbers", "table of texts", "text or table", "table of texts, true or false", "list of tables",
		"call or list of calls and of lists of calls", "table of names or lists", "table of lists", "text", "table", "table", "table", "text"}[f]
}

// object is a piece of a JSON Schema.
type object = map[string]any

// Patterns of names, in the dialect of JSON Schema (ECMA-262).
const (
	taskNamePattern = `^[\p{L}\p{Nd}_][\p{L}\p{Nd}_-]*$`
	argNamePattern  = `^[A-Za-z][A-Za-z0-9_-]*$`
	varNamePattern  = `^[A-Za-z_][A-Za-z0-9_]*$`
)

// Schema returns the JSON Schema (draft 2020-12) of the project file.
func Schema() map[string]any {
	schema := tableSchema(topKeys)
	schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	schema["title"] = "Tugline project file"
	return schema
}

func tableSchema[T any](keys []key[T]) object {
	properties := object{}
	for _, k := range keys {
		property := k.form.schema()
		property["description"] = k.about
		properties[k.name] = property
	}
	return object{"type": "object", "properties": properties, "additionalProperties": false}
}

func (f form) schema() object {
	text := object{"type": "string"}
	texts := object{"type": "array", "items": text}
	switch f {
	case formBool:
		return object{"type": "boolean"}
	case formCount:
		return object{"type": "integer", "minimum": 1}
	case formTexts, formCalls:
		return object{"anyOf": []any{text, texts}}
	case formShell:
		return object{"anyOf": []any{text, object{"type": "array", "items": text, "minItems": 1}}}
	case formEnv:
		return object{"type": "object", "additionalProperties": false, "patternProperties": object{varNamePattern: object{"anyOf": []any{text, tableSchema(varKeys)}}}}
	case formEnvFiles:
		long := object{
			"type": "object", "additionalProperties": false, "required": []any{"file"},
			"properties": object{"file": text, "must_exist": object{"type": "boolean"}},
		}
		return object{"anyOf": []any{text, long, object{"type": "array", "items": object{"anyOf": []any{text, long}}}}}
	case formPaths:
		list := object{"anyOf": []any{text, texts}}
		return object{"anyOf": []any{text, texts, object{"type": "object", "additionalProperties": false, "patternProperties": object{varNamePattern: list}}}}
	case formStore:
		return object{"type": "object", "additionalProperties": false, "properties": object{"limit": text}}
	case formAfter:
		return object{"enum": []any{AfterFailure[0], AfterFailure[1], AfterFailure[2]}}
	case formWhen:
		return object{"anyOf": []any{text, tableSchema(whenKeys)}}
	case formWhenEnv:
		return object{"type": "object", "additionalProperties": object{"type": []any{"string", "boolean"}}}
	case formRequire:
		return object{"type": "array", "items": tableSchema(requireKeys)}
	case formOrdered:
		return object{"anyOf": []any{text, object{"type": "array", "items": object{"anyOf": []any{text, texts}}}}}
	case formEach:
		list := object{"anyOf": []any{text, texts, tableSchema(listKeys)}}
		return object{"type": "object", "additionalProperties": false, "patternProperties": object{argNamePattern: list}}
	case formLists:
		list := object{"anyOf": []any{texts, tableSchema(listKeys)}}
		return object{"type": "object", "additionalProperties": false, "patternProperties": object{taskNamePattern: list}}
	case formOutput:
		return object{"enum": []any{Outputs[0], Outputs[1], Outputs[2], Outputs[3]}}
	case formHold:
		return tableSchema(holdKeys)
	case formReady:
		return tableSchema(readyKeys)
	case formServe:
		s := tableSchema(serveKeys)
		s["required"] = []any{"roots"}
		return s
	case formRestart:
		return object{"enum": []any{Restarts[0], Restarts[1]}}
	case formRetry:
		return tableSchema(retryKeys)
	case formSystemTexts:
		systems := object{}
		for _, name := range systemNames {
			systems[name] = text
		}
		return object{"type": "object", "additionalProperties": false, "properties": systems}
	case formCodes:
		return object{"type": "array", "minItems": 1, "items": object{"type": "integer", "minimum": 1, "maximum": 255}}
	case formParts:
		part := object{"anyOf": []any{text, tableSchema(partKeys)}}
		return object{"type": "object", "additionalProperties": false, "patternProperties": object{taskNamePattern: part}}
	case formScalar:
		return object{"type": []any{"string", "number", "boolean"}}
	case formNumber:
		return object{"type": "number"}
	case formArgs:
		args := object{argNamePattern: tableSchema(argKeys)}
		return object{"type": "object", "additionalProperties": false, "patternProperties": args}
	case formSystems:
		systems := object{}
		for _, name := range systemNames {
			systems[name] = tableSchema(systemKeys)
		}
		return object{"type": "object", "additionalProperties": false, "properties": systems}
	case formTasks:
		tasks := object{taskNamePattern: tableSchema(taskKeys)}
		return object{"type": "object", "additionalProperties": false, "patternProperties": tasks}
	}
	return text
}
