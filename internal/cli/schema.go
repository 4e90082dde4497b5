package cli

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/config"
	"humblemule.example/internal/server"
)

// schemaCommand writes the JSON Schema of a set-up file, with which editors complete and
// check it.
func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Write the JSON Schema of a set-up file, for editors", Args: args(cobra.NoArgs), Example: "  hmule setup schema > hmule.schema.json",
		RunE: func(*cobra.Command, []string) error {
			schema, err := setupSchema()
			if err != nil {
				return err
			}
			raw, err := json.MarshalIndent(schema, "", "  ")
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, string(raw))
			return err
		},
	}
}

// setupSchema is made of what the API's description says of settings, so that the two
// cannot differ.
func setupSchema() (map[string]any, error) {
	var described struct {
		Components struct {
			Schemas map[string]any `yaml:"schemas"`
		} `yaml:"components"`
	}
	if err := yaml.Unmarshal(server.OpenAPI(), &described); err != nil {
		return nil, fmt.Errorf("the API's description: %w", err)
	}
	defs := map[string]any{}
	gather("Defaults", described.Components.Schemas, defs)
	named := func(of, says string) map[string]any {
		return map[string]any{
			"type": []string{"object", "null"}, "description": says,
			"propertyNames": map[string]any{"$ref": "#/$defs/Name"}, "additionalProperties": map[string]any{"anyOf": []any{map[string]any{"$ref": "#/$defs/" + of}, map[string]any{"type": "null"}}},
		}
	}
	gather("Name", described.Components.Schemas, defs)
	gather("Retention", described.Components.Schemas, defs)
	gather("TriageRule", described.Components.Schemas, defs)
	gather("BackupRules", described.Components.Schemas, defs)
	gather("Schedule", described.Components.Schemas, defs)
	gather("Hook", described.Components.Schemas, defs)
	gather("Endpoint", described.Components.Schemas, defs)
	gather("Alerts", described.Components.Schemas, defs)
	service := map[string]any{}
	for _, f := range config.Flags() {
		service[strings.ReplaceAll(f.Name, "-", "_")] = map[string]any{"type": []string{"string", "integer"}, "description": f.Usage, "default": f.BuiltIn}
	}
	return map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "A set-up file of Humble Mule", "type": "object", "additionalProperties": false, "$defs": defs,
		"properties": map[string]any{
			"service":   map[string]any{"type": "object", "additionalProperties": false, "properties": service, "description": "How the service starts; flags and variables win over it."},
			"retention": map[string]any{"$ref": "#/$defs/Retention"},
			"triage":    map[string]any{"type": "array", "maxItems": api.MaxTriageRules, "items": map[string]any{"$ref": "#/$defs/TriageRule"}, "description": "Rules for causes, before the built-in ones; the first that matches decides."},
			"queues":    named("Defaults", "The settings of queues, by name."), "tasks": named("Defaults", "The defaults of the jobs of tasks, by name."),
			"backups":   map[string]any{"$ref": "#/$defs/BackupRules"},
			"schedules": named("Schedule", "Rules that enqueue jobs again and again, by name."),
			"hooks":     named("Hook", "Addresses that take webhooks, by name."),
			"endpoints": named("Endpoint", "Addresses for messages of ends of jobs, by name."),
			"alerts":    map[string]any{"$ref": "#/$defs/Alerts"},
			"commands":  map[string]any{"type": "object", "additionalProperties": aText, "description": "Shell commands that alerts may run, by name: for the service alone."},
			"mail":      mailSchema,
			"secrets":   map[string]any{"type": "object", "additionalProperties": secretSchema, "description": "Secrets by name, for the service alone: no load of the file gives them to it."},
			"calls":     callsSchema,
		},
	}, nil
}

// What stands in the file alone, and not in the API.
var (
	aText        = map[string]any{"type": "string"}
	texts        = map[string]any{"type": "array", "items": map[string]any{"type": "string"}}
	secretSchema = map[string]any{"type": "object", "additionalProperties": false, "properties": map[string]any{
		"env": map[string]any{"type": "string", "description": "A variable of the environment that holds it."}, "file": map[string]any{"type": "string", "description": "A file that holds it."},
		"hooks": texts, "tasks": texts, "hosts": texts,
	}, "description": "Where a secret is, and what may use it."}
	mailSchema = map[string]any{"type": "object", "additionalProperties": false, "properties": map[string]any{
		"server": aText, "from": aText, "user": aText, "secret": aText, "console": aText, "tls": map[string]any{"enum": []string{"required", "none"}, "default": "required"},
	}, "description": "By which server mail goes out."}
	callsSchema = map[string]any{"type": "object", "additionalProperties": false, "properties": map[string]any{
		"allow": texts, "slots": map[string]any{"type": "integer", "minimum": 0, "maximum": 1000, "default": 16},
	}, "description": "What the service may call, and with how many slots."}
)

const apiSchemas = "#/components/schemas/"

// gather copies a schema, and those it refers to, with references that hold in a schema
// of its own.
func gather(name string, from, to map[string]any) {
	if _, known := to[name]; !known {
		to[name] = nil // for schemas that refer to themselves
		to[name] = moved(from[name], from, to)
	}
}

func moved(v any, from, to map[string]any) any {
	switch v := v.(type) {
	case map[string]any:
		all := map[string]any{}
		for key, value := range v {
			if ref, ok := value.(string); ok && key == "$ref" {
				name := strings.TrimPrefix(ref, apiSchemas)
				gather(name, from, to)
				all[key] = "#/$defs/" + name
				continue
			}
			all[key] = moved(value, from, to)
		}
		if _, set := all["additionalProperties"]; !set && all["properties"] != nil {
			all["additionalProperties"] = false // a file is read strictly, as answers are not
		}
		return all
	case []any:
		all := make([]any, len(v))
		for i := range v {
			all[i] = moved(v[i], from, to)
		}
		return all
	}
	return v
}
