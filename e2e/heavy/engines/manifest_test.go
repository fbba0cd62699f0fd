package engines

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	batch "k8s.io/api/batch/v1"
	"sigs.k8s.io/yaml"
)

// The manifest of an Indexed Job is what the engine's own types are, strictly.
func TestManifest(t *testing.T) {
	var job batch.Job
	text, err := os.ReadFile("../../../docs/scale.md")
	require.NoError(t, err)
	_, manifest, found := strings.Cut(string(text), "```yaml\n")
	require.True(t, found)
	manifest, _, _ = strings.Cut(manifest, "```\n")
	require.NoError(t, yaml.UnmarshalStrict([]byte(manifest), &job))
	assert.Equal(t, "Job", job.Kind)
	require.NotNil(t, job.Spec.CompletionMode)
	assert.Equal(t, batch.IndexedCompletion, *job.Spec.CompletionMode)
	args := strings.Join(job.Spec.Template.Spec.Containers[0].Args, " ")
	assert.Contains(t, args, fmt.Sprintf("extract inbox --into landing --ext csv --shard auto/%d ", *job.Spec.Completions))
}
