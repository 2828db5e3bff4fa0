package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironseal/internal/disk"
)

// Whatever act is terminated at whatever moment: the estate is sound, the act can be repeated or says that it
// was done, and nothing half made has a final name. Each act is ended once; IRONSEAL_KILLS says how often.
func TestActsTerminatedAtAnyMoment(t *testing.T) {
	times := 1
	if n, err := strconv.Atoi(os.Getenv("IRONSEAL_KILLS")); err == nil {
		times = n
	}
	stage := killStage(t)
	for _, k := range kills {
		t.Run(k.name, func(t *testing.T) {
			stage := stage
			stage.t = t
			whole := copyPlace(t, stage)
			begin := time.Now()
			whole.run("", strings.Fields(k.args)...)
			took := time.Since(begin)
			for range times {
				after := time.Duration(rand.Int64N(int64(took)))
				ended(t, stage, k, fmt.Sprint(after, " of ", took), func(p place) { p.terminated(after, k.args) })
			}
		})
	}
}

// terminated runs a command, and ends it after a while.
func (p place) terminated(after time.Duration, args string) {
	cmd := exec.Command(program, strings.Fields(args)...)
	cmd.Dir, cmd.Env = p.dir, append(append(os.Environ(), "IRONSEAL_ESTATE="), p.env...)
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	end := time.AfterFunc(after, func() { _ = cmd.Process.Kill() }) // which is TerminateProcess
	_ = cmd.Wait()                                                  // it is killed, as a rule
	end.Stop()
	for until := time.Now().Add(5 * time.Second); p.held() && time.Now().Before(until); {
		time.Sleep(10 * time.Millisecond) // the system lets go of what a process held some time after its end
	}
}

// held reports whether somebody still holds what was not finished.
func (p place) held() bool {
	return slices.ContainsFunc(p.leftovers(), func(path string) bool {
		release, ok := disk.TryLock(path)
		if ok {
			release()
		}
		return !ok
	})
}
