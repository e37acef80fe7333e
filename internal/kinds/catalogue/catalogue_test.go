package catalogue_test

import (
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/kinds/catalogue"
)

var update = flag.Bool("update", false, "write the generated documents anew")

// generated compares a document with what is generated now.
func generated(t *testing.T, path, text string) {
	t.Helper()
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, text == string(b), "%s is stale: go test ./internal/kinds/catalogue -update writes it anew", path)
}

const docs = "../../../docs/"

func TestDocumentsAreCurrent(t *testing.T) {
	generated(t, docs+"KINDS.md", catalogue.Reference())
	schema, err := declare.Schema(catalogue.All, nil)
	require.NoError(t, err)
	generated(t, docs+"neighbour.schema.json", string(schema))
}

// valid checks a declaration against the schema.
func valid(t *testing.T, text string, d *declare.Declaration) error {
	t.Helper()
	schema, err := declare.Schema(catalogue.All, d)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(schema)))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource(declare.SchemaID, doc))
	compiled, err := c.Compile(declare.SchemaID)
	require.NoError(t, err)
	var v any
	require.NoError(t, toml.Unmarshal([]byte(text), &v))
	b, err := json.Marshal(v)
	require.NoError(t, err)
	v, err = jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	require.NoError(t, err)
	return compiled.Validate(v)
}

// Every example is a correct declaration, for the parser and for the schema.
func TestExamplesAreCorrect(t *testing.T) {
	examples := map[string]string{}
	for _, k := range catalogue.All {
		examples[k.Info().Name] = k.Info().Example
	}
	for _, path := range []string{"../../../examples/toolshed/neighbour.toml", "../../demo/toolshed.toml"} {
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		examples[filepath.Base(filepath.Dir(path))] = string(b)
	}
	for name, text := range examples {
		require.NotEmpty(t, text, name)
		_, err := declare.Parse([]byte(text), "neighbour.toml", catalogue.All)
		assert.NoError(t, err, name)
		assert.NoError(t, valid(t, text, nil), name)
	}
}

// The example of a kind of one's own, too, with the schema that has the kind.
func TestOwnExampleIsCorrect(t *testing.T) {
	_, rest, _ := strings.Cut(catalogue.Reference(), "```toml\n[kind.finder]")
	text, _, _ := strings.Cut(rest, "```")
	text = "[kind.finder]" + text
	d, err := declare.Parse([]byte(text), "neighbour.toml", catalogue.All)
	require.NoError(t, err)
	assert.Error(t, valid(t, text, nil), "nobody else has this kind")
	assert.NoError(t, valid(t, text, d))
	assert.Error(t, valid(t, text+"\nprot = 1\n", d))
}

// What the schema refuses, the parser refuses, too.
func TestSchemaRefuses(t *testing.T) {
	for _, text := range []string{
		"[service.a]\nrun = \"x\"\nprot = 1\n",
		"[service.a]\nrun = \"x\"\nport = \"4100\"\n",
		"[service.a]\nkind = \"redis\"\ndatabases = [\"x\"]\n",
		"[service.a]\nkind = \"zeppelin\"\n",
		"[service.a]\nrun = \"x\"\nhealth = { every = \"2x\" }\n",
		"[service.A]\nrun = \"x\"\n",
		"[project]\nname = \"x\"\n",
		"[servise.a]\nrun = \"x\"\n",
	} {
		assert.Error(t, valid(t, text, nil), text)
		_, err := declare.Parse([]byte(text), "neighbour.toml", catalogue.All)
		assert.Error(t, err, text)
	}
}
