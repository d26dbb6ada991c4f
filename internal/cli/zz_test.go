package cli
import ("testing";"context";"io";"os";"strings")
func TestZZ(t *testing.T) {
	Run(context.Background(), strings.Fields(os.Getenv("ZC")), Streams{Out: io.Discard, Err: os.Stderr})
}
