package cli

import (
	"errors"
	"os"
	"os/exec"
	"strconv"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"twinning": func() { os.Exit(Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
	})
}

// Whole-program scenarios: commands on top, files below. `exit N twinning …`
// runs the program and wants exactly that exit code.
func TestScript(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir:           "../../testdata/script",
		UpdateScripts: os.Getenv("TWINNING_WRITE") != "", // to be read before it is committed
		Cmds: map[string]func(ts *testscript.TestScript, neg bool, args []string){
			"exit": func(ts *testscript.TestScript, _ bool, args []string) {
				want, err := strconv.Atoi(args[0])
				ts.Check(err)
				got := 0
				var ended *exec.ExitError
				if err := ts.Exec(args[1], args[2:]...); errors.As(err, &ended) {
					got = ended.ExitCode()
				} else if err != nil {
					ts.Fatalf("%v", err)
				}
				if got != want {
					ts.Fatalf("exit code %d, expected %d", got, want)
				}
			},
		},
	})
}
