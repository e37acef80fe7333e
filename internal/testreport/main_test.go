package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReport(t *testing.T) {
	const input = `go: downloading example.org/module v1.0.0
{"Action":"start","Package":"neighbour/internal/x"}
{"Action":"output","Package":"neighbour/internal/x","Test":"TestGood","Output":"=== RUN   TestGood\n"}
{"Action":"output","Package":"neighbour/internal/x","Test":"TestGood","Output":"    x_test.go:3: all is well\n"}
{"Action":"pass","Package":"neighbour/internal/x","Test":"TestGood","Elapsed":1.5}
{"Action":"output","Package":"neighbour/internal/x","Test":"TestRoot","Output":"    x_test.go:9: this test needs root\n"}
{"Action":"output","Package":"neighbour/internal/x","Test":"TestRoot","Output":"--- SKIP: TestRoot (0.00s)\n"}
{"Action":"skip","Package":"neighbour/internal/x","Test":"TestRoot","Elapsed":0}
{"Action":"output","Package":"neighbour/internal/x","Test":"TestBad/sub","Output":"    x_test.go:7: expected 1\n"}
{"Action":"fail","Package":"neighbour/internal/x","Test":"TestBad/sub","Elapsed":0.1}
{"Action":"fail","Package":"neighbour/internal/x","Test":"TestBad","Elapsed":2}
{"Action":"output","Package":"neighbour/internal/x","Output":"FAIL\n"}
{"Action":"output","Package":"neighbour/internal/x","Output":"panic: out of luck\n"}
{"Action":"fail","Package":"neighbour/internal/x","Elapsed":3}
{"Action":"pass","Package":"neighbour/internal/y","Elapsed":0.2}
`
	var out strings.Builder
	assert.False(t, report(strings.NewReader(input), &out, nil))
	assert.Equal(t, `go: downloading example.org/module v1.0.0
FAIL  x TestBad/sub  0.1 s
    x_test.go:7: expected 1
FAIL  x TestBad  2.0 s
FAIL  x   3.0 s
panic: out of luck
ok    y  0.2 s

3 tests in 1 packages; the slowest:
     2.0 s  x TestBad
     1.5 s  x TestGood
     0.0 s  x TestRoot
1 skipped: this test needs root: x TestRoot
`, out.String())
	out.Reset()
	assert.True(t, report(strings.NewReader(`{"Action":"pass","Package":"neighbour/internal/y","Elapsed":0.2}`), &out, nil))
}
