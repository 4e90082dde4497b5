package server

import (
	"regexp"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// openapi.yaml is sound, and describes every route and nothing else.
func TestDescribed(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(OpenAPI())
	require.NoError(t, err)
	require.NoError(t, doc.Validate(t.Context()))
	var described []string
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			described = append(described, method+" "+path)
			assert.NotEmpty(t, operation.Summary, path)
			assert.NotEmpty(t, operation.OperationID, path)
		}
	}
	s, _ := setUp(t)
	parameter := regexp.MustCompile(`:(\w+)`)
	var routed []string
	for _, r := range s.router.Routes() {
		routed = append(routed, r.Method+" "+parameter.ReplaceAllString(r.Path, "{$1}"))
	}
	assert.ElementsMatch(t, routed, described)
}

// Every problem that the service can have with a call has a status and a title of
// its own kind.
func TestKinds(t *testing.T) {
	for kind, k := range kinds {
		assert.GreaterOrEqual(t, k.status, 400, kind)
		assert.NotEmpty(t, k.title, kind)
		assert.False(t, strings.HasSuffix(k.title, "."), kind)
	}
}
