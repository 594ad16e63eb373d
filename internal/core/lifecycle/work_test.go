package lifecycle

import "testing"

func TestBeside(t *testing.T) {
	for _, c := range []struct {
		begins, under Work
		want          Verdict
	}{
		{WorkReconcile, WorkReconcile, Refused},
		{WorkReconcile, WorkRepair, Together}, {WorkRepair, WorkRecheck, Together}, {WorkReconcile, WorkBuild, Together},
		{WorkReconcile, WorkRestart, Refused}, {WorkReconcile, WorkPrepare, Refused}, {WorkReconcile, WorkRefresh, Refused},
		{WorkReconcile, WorkCutover, Refused},
		{WorkRestart, WorkBuild, Ends}, {WorkRestart, WorkPrepare, Ends}, {WorkRestart, WorkReconcile, Ends},
		{WorkRestart, WorkCutover, Refused}, {WorkRestart, WorkClose, Refused},
		{WorkClose, WorkPrepare, Ends}, {WorkClose, WorkRestart, Ends}, {WorkClose, WorkSurvey, Ends},
		{WorkClose, WorkCutover, Refused},
		{WorkBuild, WorkRestart, Refused}, {WorkBuild, WorkAdd, Together}, {WorkBuild, WorkRefresh, Refused},
		{WorkCutover, WorkReconcile, Refused}, {WorkCutover, WorkSurvey, Together}, {WorkCutover, WorkBuild, Refused},
		{WorkSurvey, WorkPrepare, Together}, {WorkFit, WorkSurvey, Together}, {WorkSurvey, WorkClose, Refused},
		{WorkPrepare, WorkRestart, Refused}, {WorkPrepare, WorkFit, Together}, {WorkRefresh, WorkReconcile, Refused},
	} {
		if got := Beside(c.begins, c.under); got != c.want {
			t.Errorf("%s beside %s: %d, want %d", c.begins, c.under, got, c.want)
		}
	}
	// Whatever closes or begins a crossing anew is never done beside anything but what reads.
	for _, under := range All(WorkSurvey, WorkFit) {
		for _, begins := range []Work{WorkClose, WorkRestart, WorkPrepare, WorkCutover, WorkRefresh} {
			if Beside(begins, under) == Together {
				t.Errorf("%s beside %s", begins, under)
			}
		}
		if under == WorkClose {
			continue
		}
		if Cancel(under) == "" && Beside(WorkClose, under) != Ends {
			t.Errorf("closing does not end %s", under)
		}
	}
}
