package e2e

import (
	"encoding/json"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/internal/sentence"
)

// formats calls the console's own functions with the numbers that stand on its input.
const formats = `
const ts = require('./node_modules/typescript'), fs = require('fs')
const { outputText } = ts.transpileModule(fs.readFileSync('src/lib/format.ts', 'utf8'), { compilerOptions: { module: 'CommonJS' } })
const format = {}
new Function('exports', outputText)(format)
const all = JSON.parse(fs.readFileSync(0, 'utf8'))
console.log(JSON.stringify(all.map((n) => [format.span(n), format.grouped(n)])))
`

// What changes while one looks at it, such as an age, the console writes itself: in the form
// that the service's sentences have.
func TestConsoleWritesNumbersAlike(t *testing.T) {
	t.Parallel()
	numbers := []int64{0, 1, 7, 999, 1000, 1234, 9900, 9999, 10_000, 10_400, 119_400, 120_000, 125_000, 7_199_000, 7_200_000, 86_400_000, 172_799_000, 172_800_000, 1_000_000_000, 123_456_789_012}
	var texts []string
	for _, n := range numbers {
		texts = append(texts, strconv.FormatInt(n, 10))
	}
	node := exec.CommandContext(t.Context(), "node", "-e", formats)
	node.Dir = "../console"
	node.Stdin = strings.NewReader("[" + strings.Join(texts, ",") + "]")
	out, err := node.Output()
	require.NoError(t, err)
	var written [][2]string
	require.NoError(t, json.Unmarshal(out, &written))
	require.Len(t, written, len(numbers))
	for i, n := range numbers {
		assert.Equal(t, [2]string{sentence.Roughly(time.Duration(n) * time.Millisecond), sentence.Grouped(n)}, written[i], n)
	}
}
