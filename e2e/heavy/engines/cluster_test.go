//go:build linux

// Package slurm runs the built program as the array jobs of a real batch engine: three nodes
// on this host, one of which is killed, and one of which is taken for dead while its tasks go
// on.
package engines

import (
	"crypto/rand"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// nodes are how many there are.
const nodes = 3

// cluster is an engine with everything that it has in a folder of its own.
type cluster struct {
	t     *testing.T
	dir   string
	nodes [nodes + 1]*exec.Cmd // from 1
}

const configuration = `ClusterName=local
SlurmctldHost=localhost(127.0.0.1)
SlurmctldPort=%[2]d
SlurmUser=root
AuthInfo=socket=%[1]s/munge/sock,cred_expire=5
StateSaveLocation=%[1]s/state
SlurmdSpoolDir=%[1]s/spool/%%n
SlurmctldPidFile=%[1]s/slurmctld.pid
SlurmdPidFile=%[1]s/slurmd-%%n.pid
SlurmctldLogFile=%[1]s/log/slurmctld.log
SlurmdLogFile=%[1]s/log/slurmd-%%n.log
ProctrackType=proctrack/pgid
TaskPlugin=task/none
MpiDefault=none
SelectType=select/cons_tres
SelectTypeParameters=CR_CPU
SlurmdParameters=config_overrides
ReturnToService=2
SlurmdTimeout=15
KillWait=3
SchedulerParameters=sched_interval=2,bf_interval=2
`

// start brings an engine up, or skips the test where that cannot be.
func start(t *testing.T) *cluster {
	t.Helper()
	for _, program := range []string{"munged", "slurmctld", "slurmd", "sbatch", "squeue", "sinfo", "scontrol", "unshare"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not installed", program)
		}
	}
	if os.Getuid() != 0 {
		t.Skip("nodes of their own take the rights of root")
	}
	if out, err := exec.Command("unshare", "-u", "-m", "-p", "-f", "--mount-proc", "true").CombinedOutput(); err != nil {
		t.Skipf("there may be no nodes of their own here: %s", out)
	}
	dir, err := os.MkdirTemp("", "engine-")
	require.NoError(t, err)
	c := &cluster{t: t, dir: dir}
	t.Cleanup(c.stop)
	for _, sub := range []string{"munge", "state", "log"} {
		require.NoError(t, os.Mkdir(c.path(sub), 0o755))
	}
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.WriteFile(c.path("munge/key"), []byte(rand.Text()+rand.Text()), 0o400))
	c.do("munged", "--key-file="+c.path("munge/key"), "--socket="+c.path("munge/sock"), "--pid-file="+c.path("munge/pid"),
		"--log-file="+c.path("munge/log"), "--seed-file="+c.path("munge/seed"))
	ports := freePorts(t, nodes+1)
	config := fmt.Sprintf(configuration, dir, ports[0])
	for i := 1; i <= nodes; i++ {
		config += fmt.Sprintf("NodeName=node%d NodeHostname=localhost NodeAddr=127.0.0.1 Port=%d CPUs=2 RealMemory=2000\n", i, ports[i])
	}
	config += fmt.Sprintf("PartitionName=main Nodes=node[1-%d] Default=YES MaxTime=INFINITE State=UP\n", nodes)
	require.NoError(t, os.WriteFile(c.path("slurm.conf"), []byte(config), 0o644))
	c.do("slurmctld", "-f", c.path("slurm.conf"))
	for i := 1; i <= nodes; i++ {
		c.startNode(i)
	}
	c.until("the nodes are up", func() bool { return strings.Count(c.do("sinfo", "-h", "-N", "-o", "%T"), "idle") == nodes })
	return c
}

func freePorts(t *testing.T, n int) (ports []int) {
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		ports = append(ports, l.Addr().(*net.TCPAddr).Port)
	}
	return ports
}

func (c *cluster) path(name string) string { return filepath.Join(c.dir, name) }

// do runs a program of the engine, and returns what it printed.
func (c *cluster) do(name string, args ...string) string {
	c.t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "SLURM_CONF="+c.path("slurm.conf"))
	out, err := cmd.CombinedOutput()
	require.NoError(c.t, err, "%s: %s", name, out)
	return string(out)
}

// startNode starts a node with a host name of its own; all that runs on it ends with it.
func (c *cluster) startNode(i int) {
	node := fmt.Sprintf("node%d", i)
	require.NoError(c.t, os.MkdirAll(c.path("spool/"+node), 0o755))
	require.NoError(c.t, os.MkdirAll(c.path("tmp/"+node), 0o755))
	script := `hostname "$1"; mount --bind "$2/tmp/$1" /var/tmp; slurmd -D -f "$2/slurm.conf" -N "$1" & wait`
	cmd := exec.Command("unshare", "-u", "-m", "-p", "-f", "--kill-child", "--mount-proc", "bash", "-c", script, "node", node, c.dir)
	log, err := os.Create(c.path("log/" + node + ".err"))
	require.NoError(c.t, err)
	defer log.Close()
	cmd.Stderr = log
	require.NoError(c.t, cmd.Start())
	c.nodes[i] = cmd
}

// killNode takes a node away with all that runs on it, and tells the engine so.
func (c *cluster) killNode(i int) {
	require.NoError(c.t, c.nodes[i].Process.Kill())
	c.nodes[i].Wait()
	c.nodes[i] = nil
	c.do("scontrol", "update", fmt.Sprintf("nodename=node%d", i), "state=down", "reason=killed")
}

// signal sends a signal to the processes of a name on a node, and returns how many there are.
func (c *cluster) signal(i int, name string, sig syscall.Signal) (n int) {
	for _, pid := range below(c.nodes[i].Process.Pid) {
		comm, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		if err == nil && strings.TrimSpace(string(comm)) == name && syscall.Kill(pid, sig) == nil {
			n++
		}
	}
	return n
}

// below are a process and all that it, or what it has started, has started.
func below(pid int) []int {
	parents := map[int]int{}
	all, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range all {
		text, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		self, err := strconv.Atoi(filepath.Base(filepath.Dir(path)))
		fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		if err == nil && len(fields) > 1 {
			parents[self], _ = strconv.Atoi(fields[1])
		}
	}
	found := []int{pid}
	for i := 0; i < len(found); i++ {
		for child, parent := range parents {
			if parent == found[i] && !slices.Contains(found, child) {
				found = append(found, child)
			}
		}
	}
	return found
}

// until waits for something.
func (c *cluster) until(what string, is func() bool) {
	c.t.Helper()
	for end := time.Now().Add(5 * time.Minute); ; {
		asked := time.Now()
		if is() {
			return
		}
		time.Sleep(max(2*time.Millisecond, 4*time.Since(asked))) // asking must not keep the engine busy
		if time.Now().After(end) {
			log, _ := os.ReadFile(c.path("log/slurmctld.log"))
			c.t.Fatalf("it never came to this: %s\n%s\n%s", what, c.do("squeue"), log)
		}
	}
}

// stop ends everything.
func (c *cluster) stop() {
	for _, node := range c.nodes {
		if node != nil {
			node.Process.Kill()
			node.Wait()
		}
	}
	for _, file := range []string{"slurmctld.pid", "munge/pid"} {
		text, err := os.ReadFile(c.path(file))
		if pid, wrong := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && wrong == nil {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	os.RemoveAll(c.dir)
}
