package cli

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"widecrate/core/source"
)

// shardOption is the value of --shard: I/N, auto/N, or auto.
type shardOption struct{ source.Shard }

func (s *shardOption) Type() string    { return "I/N" }
func (s *shardOption) Words() []string { return nil }

func (s *shardOption) String() string {
	if s.Count == 0 {
		return ""
	}
	return fmt.Sprintf("%d/%d", s.Index, s.Count)
}

// perShare is the path of a page that each share makes: {shard} in it stands for the share. Without that, each would write
// over those of the others.
func (s *shardOption) perShare(path string) (string, error) {
	const placeholder = "{shard}"
	share := fmt.Sprintf("%d-of-%d", s.Index, s.Count)
	switch {
	case s.Count == 0 || path == "" || strings.Contains(path, share):
		return path, nil
	case !strings.Contains(path, placeholder):
		return "", fmt.Errorf("--report %s: each share would write over the page of the others; put %s into its name, such as page-%s.html", path, placeholder, placeholder)
	}
	return strings.ReplaceAll(path, placeholder, share), nil
}

// Set reads a share. With auto, the variables of a batch engine tell which one this is.
func (s *shardOption) Set(text string) error {
	index, count, both := strings.Cut(text, "/")
	if !both && index != "auto" {
		return fmt.Errorf("it must be a share such as 0/8, auto/8 or auto")
	}
	n := 0
	if both {
		var err error
		if n, err = strconv.Atoi(count); err != nil || n < 1 {
			return fmt.Errorf("%q is no number of shares", count)
		}
	}
	if index == "auto" {
		task, err := currentTask()
		if err != nil {
			return err
		}
		if n == 0 {
			if n, err = task.count(); err != nil {
				return err
			}
		}
		index = strconv.Itoa(task.index - task.first)
	}
	i, err := strconv.Atoi(index)
	if err != nil || i < 0 || i >= n {
		return fmt.Errorf("the share is %s, and there are %d, from 0 to %d", index, n, n-1)
	}
	s.Shard = source.Shard{Index: i, Count: n}
	return nil
}

// engine has the names of the variables that a batch engine sets in the tasks of an
// array: the index, and as far as it has them the first, the last, the step and the
// number of tasks.
type engine struct{ index, first, last, step, count string }

var engines = []engine{
	{index: "SLURM_ARRAY_TASK_ID", first: "SLURM_ARRAY_TASK_MIN", last: "SLURM_ARRAY_TASK_MAX", step: "SLURM_ARRAY_TASK_STEP", count: "SLURM_ARRAY_TASK_COUNT"},
	{index: "PBS_ARRAY_INDEX"},
	{index: "PBS_ARRAYID"},
	{index: "SGE_TASK_ID", first: "SGE_TASK_FIRST", last: "SGE_TASK_LAST", step: "SGE_TASK_STEPSIZE"},
	{index: "LSB_JOBINDEX", last: "LSB_JOBINDEX_END", step: "LSB_JOBINDEX_STEP"},
	{index: "JOB_COMPLETION_INDEX"},
	{index: "AWS_BATCH_JOB_ARRAY_INDEX", count: "AWS_BATCH_JOB_ARRAY_SIZE"},
	{index: "BATCH_TASK_INDEX", count: "BATCH_TASK_COUNT"},
}

// task is one of an array.
type task struct {
	engine
	index, first int
}

// currentTask is the one that the program runs in.
func currentTask() (*task, error) {
	for _, e := range engines {
		index, err := number(e.index)
		if err != nil || index < 0 { // outside of arrays some engines set it to a word
			continue
		}
		t := &task{engine: e, index: index}
		switch first, err := number(e.first); {
		case err != nil:
			return nil, err
		case first > 0:
			t.first = first
		case e.index == "LSB_JOBINDEX": // counts from 1, and 0 is no array
			if t.first = 1; index == 0 {
				continue
			}
		}
		return t, nil
	}
	return nil, fmt.Errorf("no variable of a batch engine says which task this is; name the share itself, such as 0/8")
}

// number reads a variable; -1: it is not set.
func number(name string) (int, error) {
	text := os.Getenv(name)
	if name == "" || text == "" {
		return -1, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return -1, fmt.Errorf("the variable %s is %q, and no number", name, text)
	}
	return n, nil
}

// count is how many tasks the array has. A range that is not full, in which the number
// of tasks is not that of the shares, is an error.
func (t *task) count() (int, error) {
	last, err := number(t.last)
	if err != nil {
		return 0, err
	}
	step, err := number(t.step)
	if err != nil {
		return 0, err
	}
	count, err := number(t.engine.count)
	if err != nil {
		return 0, err
	}
	switch {
	case step > 1:
		return 0, fmt.Errorf("the tasks of this array have steps of %d between them; say how many shares there are, such as auto/8, and number tasks one by one", step)
	case count > 0 && last >= 0 && last-t.first+1 != count:
		return 0, fmt.Errorf("the array has %d tasks between %d and %d: some are missing; say how many shares there are, such as auto/8", count, t.first, last)
	case count > 0:
		return count, nil
	case last > 0:
		return last - t.first + 1, nil
	}
	return 0, fmt.Errorf("%s says which task this is, but nothing says how many there are; give the number, such as auto/8", t.engine.index)
}
