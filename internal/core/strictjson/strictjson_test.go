package strictjson_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/strictjson"
)

func TestObject(t *testing.T) {
	o, err := strictjson.Object([]byte(` {"n":12345678901234567890,"l":[{"a":1},{"a":2}],"o":{"n":null}} `), 3)
	require.NoError(t, err)
	require.Equal(t, json.Number("12345678901234567890"), o["n"])
	for bad, says := range map[string]string{`{"a":1,"a":2}`: "twice", `{"o":{"a":1,"a":1}}`: "twice",
		`{"l":[{"a":1,"\u0061":1}]}`: "twice", `[]`: "no object", `"a"`: "no object", `{} {}`: "follows", `{}x`: "follows",
		``: "ends too early", `{"a":`: "ends too early", `{"a" 1}`: "not JSON", `{"a":` +
			strings.Repeat("[", 9) + strings.Repeat("]", 9) + `}`: "levels"} {
		_, err := strictjson.Object([]byte(bad), 3)
		require.ErrorContains(t, err, says, bad)
	}
}
