package shell

import (
	"os"
	"os/exec"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// terminate is the signal to end. Windows knows no polite one.
var terminate = os.Kill

// errTextBusy stands for an error that Windows does not have.
const errTextBusy = syscall.Errno(1 << 29)

// group is a program and all it started, held in a job object. The system
// ends all of it when Tugline ends, however that happens.
type group struct {
	cmd *exec.Cmd
	job windows.Handle
}

// startGroup starts cmd in a job object of its own.
func (s *Session) startGroup(cmd *exec.Cmd) (*group, error) {
	s.starts()
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return nil, err
	}
	var limits windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION
	limits.BasicLimitInformation.LimitFlags = windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE
	_, err = windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation,
		uintptr(unsafe.Pointer(&limits)), uint32(unsafe.Sizeof(limits)))
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		windows.CloseHandle(job) // best effort
		return nil, err
	}
	g := &group{cmd: cmd, job: job}
	process, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(cmd.Process.Pid))
	if err == nil {
		windows.AssignProcessToJobObject(job, process) // fails only when the program has ended already
		windows.CloseHandle(process)                   // best effort
	}
	return g, nil
}

// signal ends every process of g: Windows passes no signals.
func (g *group) signal(os.Signal) { g.killAll() }

// killAll ends every process of g.
func (g *group) killAll() {
	windows.TerminateJobObject(g.job, 1) // fails only when all have ended
}

// jobAccounting is the JOBOBJECT_BASIC_ACCOUNTING_INFORMATION of the Windows SDK.
type jobAccounting struct {
	times                                       [4]int64
	pageFaults, total, active, terminatedByJobs uint32
}

// alive reports whether a process of g is left.
func (g *group) alive() bool {
	const basicAccounting = 1 // JobObjectBasicAccountingInformation
	var info jobAccounting
	err := windows.QueryInformationJobObject(g.job, basicAccounting, uintptr(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info)), nil)
	return err == nil && info.active > 0
}

// gone waits until no process of g is left, and gives up when stop is closed.
func (g *group) gone(stop <-chan struct{}) bool {
	for g.alive() {
		select {
		case <-stop:
			return false
		case <-time.After(20 * time.Millisecond):
		}
	}
	return true
}

// close gives up the group. All of it has ended.
func (g *group) close() { windows.CloseHandle(g.job) } // best effort

// exitOfState reads how a process ended.
func exitOfState(state *os.ProcessState) ExitError {
	return ExitError{Code: state.ExitCode()}
}
