package repo

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vigila.dev/vigila/internal/core/proposal"
)

// bothWays are a repository on this machine, and one that is served and whose files are fetched when they are read.
func bothWays(t *testing.T, test func(t *testing.T, work string, m *Mirror)) {
	t.Run("file", func(t *testing.T) {
		work, root := bare(t, "moorings")
		test(t, work, mirrored(t, Source{Name: "moorings", URL: "file://" + filepath.Join(root, "moorings.git")}))
	})
	t.Run("https", func(t *testing.T) {
		work, root := bare(t, "moorings")
		git(t, filepath.Join(root, "moorings.git"), "config", "http.receivepack", "true")
		server, ca, _ := overHTTPS(t, root, nil, nil)
		m, err := Open(t.Context(), t.TempDir(), Source{Name: "moorings", URL: server.URL + "/moorings.git", CA: ca})
		require.NoError(t, err)
		t.Cleanup(m.Close)
		test(t, work, m)
	})
}

const lines = "a: 1\nb: 1\nc: 1\nd: 1\ne: 1\nf: 1\ng: 1\n"

func TestABranchIsLaidOverABaseThatMoved(t *testing.T) {
	bothWays(t, func(t *testing.T, work string, m *Mirror) {
		ctx := t.Context()
		commit(t, work, "First", map[string]string{"a.yaml": lines, "b.yaml": "1", "gone.yaml": "1", "dir/x.yaml": "1"})
		push(t, work)
		on := func(branch, from string, files map[string]string, gone ...string) string {
			git(t, work, "checkout", "-q", "-B", branch, from)
			for _, f := range gone {
				git(t, work, "rm", "-q", f)
			}
			id := commit(t, work, branch, files)
			git(t, work, "push", "-q", "-f", "origin", "HEAD:"+branch)
			return id
		}
		first := git(t, work, "rev-parse", "HEAD")
		clean := on("clean", first, map[string]string{"a.yaml": strings.Replace(lines, "a: 1", "a: 2", 1), "new.yaml": "1"}, "gone.yaml")
		against := on("against", first, map[string]string{"a.yaml": strings.Replace(lines, "g: 1", "g: 3", 1), "b.yaml": "3"})
		over := on("over", first, map[string]string{"dir2": "a file"}, "dir/x.yaml")
		base := on("main", first, map[string]string{"a.yaml": strings.Replace(lines, "g: 1", "g: 2", 1), "b.yaml": "2", "dir2/y.yaml": "1"})
		require.NoError(t, m.Fetch(ctx))

		got, err := m.Together(ctx, base, clean)
		require.NoError(t, err)
		assert.Empty(t, got.Conflicts)
		assert.Equal(t, first, got.Fork)
		would, err := m.Would(ctx, got.Tree, base)
		require.NoError(t, err)
		text, err := m.At(would).Read("a.yaml")
		require.NoError(t, err)
		assert.Equal(t, strings.NewReplacer("a: 1", "a: 2", "g: 1", "g: 2").Replace(lines), string(text), "lines of both sides")
		hash, err := m.At(would).Hash("gone.yaml")
		require.NoError(t, err)
		assert.Empty(t, hash)
		again, err := m.Would(ctx, got.Tree, base)
		require.NoError(t, err)
		assert.Equal(t, would, again, "the same is the same commit")
		patch, err := m.Patch(ctx, base, would, "a.yaml")
		require.NoError(t, err)
		assert.Contains(t, patch, "-a: 1\n+a: 2\n")

		got, err = m.Together(ctx, base, against)
		require.NoError(t, err)
		assert.Equal(t, []string{"a.yaml", "b.yaml"}, got.Conflicts)
		got, err = m.Together(ctx, base, over)
		require.NoError(t, err)
		assert.Equal(t, []string{"dir2"}, got.Conflicts, "a file where the base has a directory")
		got, err = m.Together(ctx, base, base)
		require.NoError(t, err)
		assert.True(t, got.Same)
		below := on("below", first, map[string]string{"b.yaml/c.yaml": "1"}, "b.yaml")
		require.NoError(t, m.Fetch(ctx))
		got, err = m.Together(ctx, base, below)
		require.NoError(t, err)
		assert.Equal(t, []string{"b.yaml"}, got.Conflicts, "a directory where the base has a file")
		git(t, work, "checkout", "-q", "--orphan", "alone")
		alone := commit(t, work, "Alone", map[string]string{"alone.yaml": "1"})
		git(t, work, "push", "-q", "origin", "HEAD:alone")
		require.NoError(t, m.Fetch(ctx))
		_, err = m.Together(ctx, base, alone)
		assert.ErrorIs(t, err, ErrNoFork)
	})
}

func TestMerging(t *testing.T) {
	bothWays(t, func(t *testing.T, work string, m *Mirror) {
		ctx := t.Context()
		commit(t, work, "First", map[string]string{"a.yaml": lines, "b.yaml": "1"})
		push(t, work)
		there := func(ref string) string {
			git(t, work, "fetch", "-q", "--prune", "origin")
			return git(t, work, "rev-parse", "--verify", "-q", "origin/"+ref)
		}
		message := func(ref string) string { return git(t, work, "log", "-1", "--format=%B%n%P", ref) }
		propose := func(branch, file, text string) string {
			require.NoError(t, m.Fetch(ctx))
			r, err := m.ProposeFiles(ctx, Files{Base: "main", Branch: branch, Subject: "Set " + file, Body: "Because.\n\nProposal: 7 of us\n", Mark: "Proposal: 7 of us", Files: []File{{Path: file, Data: []byte(text)}}})
			require.NoError(t, err)
			return r.ID
		}
		one := propose("one", "b.yaml", "2")
		again, err := m.ProposeFiles(ctx, Files{Base: "main", Branch: "one", Subject: "Set b.yaml", Body: "Because.\n\nProposal: 7 of us\n", Mark: "Proposal: 7 of us", Files: []File{{Path: "b.yaml", Data: []byte("other")}}})
		require.NoError(t, err, "its mark says that it is there already, whatever has moved since")
		assert.Equal(t, one, again.ID)
		_, err = m.ProposeFiles(ctx, Files{Base: "main", Branch: "one", Subject: "x", Mark: "Proposal: 8 of us", Files: []File{{Path: "b.yaml", Data: []byte("other")}}})
		require.ErrorContains(t, err, "already that holds something else")

		got, err := m.Merge(ctx, Merging{Base: "main", Branch: "one", Head: one, Own: true})
		require.NoError(t, err)
		assert.Equal(t, one, got.ID, "the base had not moved: it is moved forward")
		assert.Equal(t, one, there("main"))
		assert.Error(t, tryGit(work, "rev-parse", "--verify", "-q", "origin/one"), "its branch is deleted")

		two := propose("two", "a.yaml", strings.Replace(lines, "a: 1", "a: 2", 1))
		git(t, work, "checkout", "-q", "-B", "main", "origin/main")
		base := commit(t, work, "Meanwhile", map[string]string{"a.yaml": strings.Replace(lines, "g: 1", "g: 2", 1)})
		push(t, work)
		got, err = m.Merge(ctx, Merging{Base: "main", Branch: "two", Head: two, Own: true})
		require.NoError(t, err)
		assert.Equal(t, got.ID, there("main"))
		assert.Equal(t, "Set a.yaml\n\nBecause.\n\nProposal: 7 of us\n\n"+base, message(got.ID), "its commit on top of the other, with all that it says")
		assert.Equal(t, strings.TrimSpace(strings.NewReplacer("a: 1", "a: 2", "g: 1", "g: 2").Replace(lines)), git(t, work, "show", "origin/main:a.yaml"))

		three := propose("three", "b.yaml", "3")
		git(t, work, "checkout", "-q", "-B", "three", "origin/main")
		git(t, work, "pull", "-q", "origin", "three")
		theirs := commit(t, work, "And this", map[string]string{"c.yaml": "1"})
		git(t, work, "push", "-q", "origin", "HEAD:three")
		git(t, work, "checkout", "-q", "-B", "main", "origin/main")
		base = commit(t, work, "Meanwhile again", map[string]string{"d.yaml": "1"})
		push(t, work)
		_, err = m.Merge(ctx, Merging{Base: "main", Branch: "three", Head: three, Own: true})
		require.ErrorContains(t, err, "branch three was changed since "+three[:7])
		got, err = m.Merge(ctx, Merging{Base: "main", Branch: "three", Head: theirs, Subject: "Merge proposal 9", Body: "By operator.\n"})
		require.NoError(t, err)
		assert.Equal(t, got.ID, there("main"))
		assert.Equal(t, "Merge proposal 9\n\nBy operator.\n\n"+base+" "+theirs, message(got.ID), "commits of somebody else stay what they are")

		four := propose("four", "b.yaml", "4")
		git(t, work, "checkout", "-q", "-B", "main", "origin/main")
		commit(t, work, "Another", map[string]string{"b.yaml": "5"})
		push(t, work)
		_, err = m.Merge(ctx, Merging{Base: "main", Branch: "four", Head: four, Own: true})
		var conflict *ConflictError
		require.ErrorAs(t, err, &conflict)
		assert.Equal(t, []string{"b.yaml"}, conflict.Files)
		assert.Equal(t, four, there("four"), "and it is left as it is")
		commit(t, work, "As it wants", map[string]string{"b.yaml": "4"})
		push(t, work)
		_, err = m.Merge(ctx, Merging{Base: "main", Branch: "four", Head: four, Own: true})
		assert.ErrorIs(t, err, ErrSame)
	})
}

// TestDiffersAsGitDoes: what two commits have differently is what git says, whatever became a directory or a file.
func TestDiffersAsGitDoes(t *testing.T) {
	dir, m := origin(t)
	commits := []string{commit(t, dir, "First", map[string]string{"a.yaml": "1", "b/c.yaml": "1", "b/d/e.yaml": "1", "f": "1", "same/x.yaml": "1"})}
	git(t, dir, "rm", "-q", "f", "b/c.yaml")
	commits = append(commits, commit(t, dir, "Second", map[string]string{"a.yaml": "2", "f/g.yaml": "1", "b/d/h.yaml": "2"}))
	git(t, dir, "rm", "-q", "-r", "b")
	require.NoError(t, os.Symlink("a.yaml", filepath.Join(dir, "link")))
	commits = append(commits, commit(t, dir, "Third", map[string]string{"b": "now a file"}))
	require.NoError(t, m.Fetch(t.Context()))
	for _, from := range commits {
		for _, to := range commits {
			got, err := m.Differs(from, to)
			require.NoError(t, err)
			var rows []string
			for _, c := range got {
				for _, l := range []*proposal.Leaf{&c.Old, &c.New} {
					if l.ID == "" {
						*l = proposal.Leaf{Mode: "000000", ID: strings.Repeat("0", 40)}
					}
				}
				rows = append(rows, ":"+c.Old.Mode+" "+c.New.Mode+" "+c.Old.ID+" "+c.New.ID+" "+c.Path)
			}
			want := regexp.MustCompile(`(?m) [AMDT]\t`).ReplaceAllString(git(t, dir, "diff-tree", "-r", "--no-renames", "--full-index", from, to), " ")
			slices.Sort(rows)
			lines := strings.Fields(strings.ReplaceAll(want, " ", "~"))
			for i := range lines {
				lines[i] = strings.ReplaceAll(lines[i], "~", " ")
			}
			slices.Sort(lines)
			assert.Equal(t, strings.Join(lines, "\n"), strings.Join(rows, "\n"), "%s %s", from, to)
		}
	}
}

// TestEndlessTreesAreNotWalked: a tree that holds itself many times over is given up, in bounded time and memory; beside one, what changes
// is all that is looked at.
func TestEndlessTreesAreNotWalked(t *testing.T) {
	ctx := t.Context()
	dir, m := origin(t)
	first := commit(t, dir, "First", map[string]string{"a.yaml": "1"})
	leaf := strings.Fields(git(t, dir, "ls-tree", first))[2]
	before := ""
	for what, bottom := range map[string]string{"files": "100644 blob " + leaf + "\ta", "nothing": ""} {
		make := func(rows string) string {
			c := exec.Command("git", "mktree")
			c.Dir, c.Stdin = dir, strings.NewReader(rows)
			out, err := c.Output()
			require.NoError(t, err)
			return strings.TrimSpace(string(out))
		}
		tree := make(bottom)
		for range 40 {
			tree = make("040000 tree " + tree + "\tx\n040000 tree " + tree + "\ty\n")
		}
		root := make("040000 tree " + tree + "\tendless\n100644 blob " + leaf + "\ta.yaml\n")
		endless := git(t, dir, "commit-tree", root, "-p", first, "-m", "Endless")
		git(t, dir, "update-ref", "refs/heads/endless", endless)
		require.NoError(t, m.Fetch(ctx))
		_, err := m.Differs(first, endless)
		require.ErrorContains(t, err, "more than 20000", what)
		if before != "" {
			_, err = m.Moved(before, endless)
			require.ErrorContains(t, err, "more than 20000 directories", "two that differ at their ends")
		}
		before = endless
		r, err := m.ProposeFiles(ctx, Files{Base: "endless", Branch: "beside-" + what, Subject: "Beside", Files: []File{{Path: "b.yaml", Data: []byte("1")}}})
		require.NoError(t, err)
		got, err := m.Differs(endless, r.ID)
		require.NoError(t, err)
		require.Len(t, got, 1)
		assert.Equal(t, "b.yaml", got[0].Path)
	}
}

// TestFilesAreCarriedAsTheyAre: a commit takes files from elsewhere in the repository by their hashes, whatever they are, and takes some away;
// what it is made of can be seen before it is pushed.
func TestFilesAreCarriedAsTheyAre(t *testing.T) {
	ctx := t.Context()
	dir, m := origin(t)
	commit(t, dir, "First", map[string]string{"quay/run.sh": "#!/bin/sh\n", "quay/deep/er/c.yaml": "1", "skerry/old.yaml": "1", "other.yaml": "1"})
	git(t, dir, "update-index", "--chmod=+x", "quay/run.sh")
	git(t, dir, "commit", "-q", "-m", "Run")
	require.NoError(t, m.Fetch(ctx))
	head, err := m.Resolve(ctx, "main")
	require.NoError(t, err)
	at := m.At(head.ID)
	quay, err := at.Leaves("quay")
	require.NoError(t, err)
	require.Len(t, quay, 2)
	assert.Equal(t, "100755", quay["quay/run.sh"].Mode)
	one, err := at.Leaves("other.yaml")
	require.NoError(t, err)
	assert.Len(t, one, 1, "a file is itself")
	for _, p := range []string{"none", "quay/none", "other.yaml/below"} {
		none, err := at.Leaves(p)
		require.NoError(t, err, p)
		assert.Empty(t, none, p)
	}
	d := Draft{Subject: "As at quay", Body: "\n", Leaves: map[string]proposal.Leaf{"skerry/run.sh": quay["quay/run.sh"], "skerry/deep/er/c.yaml": quay["quay/deep/er/c.yaml"], "skerry/old.yaml": {}}, Files: []File{{"quay/run.sh", []byte("#!/bin/sh\necho\n")}}}
	would, err := m.With(ctx, head.ID, d)
	require.NoError(t, err)
	changes, err := m.Differs(head.ID, would)
	require.NoError(t, err)
	var paths []string
	for _, c := range changes {
		paths = append(paths, c.Path)
	}
	assert.Equal(t, []string{"quay/run.sh", "skerry/deep/er/c.yaml", "skerry/old.yaml", "skerry/run.sh"}, paths)
	assert.Equal(t, head.ID, git(t, dir, "rev-parse", "main"), "nothing is pushed")
	git(t, dir, "config", "receive.denyCurrentBranch", "ignore")
	made, err := m.Commit(ctx, "main", func(*Tree) (Draft, error) { return d, nil })
	require.NoError(t, err)
	git(t, dir, "reset", "-q", "--hard")
	assert.Equal(t, git(t, dir, "rev-parse", head.ID+":quay/deep"), git(t, dir, "rev-parse", made.ID+":skerry/deep"))
	assert.Contains(t, git(t, dir, "ls-tree", made.ID, "skerry/run.sh"), "100755")
	assert.Contains(t, git(t, dir, "ls-tree", made.ID, "quay/run.sh"), "100755", "a script that is changed stays one")
	same, err := m.With(ctx, made.ID, Draft{Leaves: map[string]proposal.Leaf{"skerry/run.sh": quay["quay/run.sh"]}})
	require.NoError(t, err)
	assert.Equal(t, made.ID, same)
	_, err = m.With(ctx, made.ID, Draft{Leaves: map[string]proposal.Leaf{"../x": quay["quay/run.sh"]}})
	require.ErrorContains(t, err, "can't be the path of a file")

	all, more, err := m.Between(ctx, head.ID, made.ID, 1, "skerry")
	require.NoError(t, err)
	assert.Equal(t, []any{1, 0, "As at quay"}, []any{len(all), more, all[0].Subject})
	commit(t, dir, "Beside", map[string]string{"other.yaml": "2"})
	commit(t, dir, "Two", map[string]string{"skerry/x.yaml": "2"})
	last := commit(t, dir, "Three", map[string]string{"skerry/x.yaml": "3"})
	require.NoError(t, m.Fetch(ctx))
	all, more, err = m.Between(ctx, made.ID, last, 1, "skerry")
	require.NoError(t, err)
	assert.Equal(t, []any{"Three", 1}, []any{all[0].Subject, more})
	before, err := m.Heads(ctx)
	require.NoError(t, err)
	again, err := m.Heads(ctx)
	require.NoError(t, err)
	assert.Equal(t, before, again)
	commit(t, dir, "Four", map[string]string{"other.yaml": "4"})
	require.NoError(t, m.Fetch(ctx))
	again, err = m.Heads(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, before, again)
}

// TestWhatIsWrittenIsSigned, where there is a key for it: so a repository that takes signed commits alone is written to, and by nobody else's
// signature.
func TestWhatIsWrittenIsSigned(t *testing.T) {
	ctx := t.Context()
	dir, plain := origin(t)
	commit(t, dir, "First", map[string]string{"a.yaml": "1"})
	git(t, dir, "config", "receive.denyCurrentBranch", "ignore")
	require.NoError(t, plain.Fetch(ctx))
	keyOf := func() (pemText, line string) {
		public, private, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		block, err := ssh.MarshalPrivateKey(private, "")
		require.NoError(t, err)
		key, err := ssh.NewPublicKey(public)
		require.NoError(t, err)
		return string(pem.EncodeToMemory(block)), string(ssh.MarshalAuthorizedKey(key))
	}
	key, line := keyOf()
	other, _ := keyOf()
	write := func(key, subject string) error {
		s := plain.source
		s.SignKey = key
		m, err := Open(ctx, t.TempDir(), s)
		require.NoError(t, err)
		t.Cleanup(m.Close)
		require.NoError(t, m.Fetch(ctx))
		s.Signers = line
		m.SetSource(s)
		_, err = m.Commit(ctx, "main", func(*Tree) (Draft, error) {
			return Draft{Files: []File{{"b.yaml", []byte(subject)}}, Subject: subject, Body: "Why.\n"}, nil
		})
		return err
	}
	require.ErrorContains(t, write("", "Unsigned"), "takes commits that are signed alone")
	require.ErrorContains(t, write(other, "Another's"), "is signed by a key that is not listed")
	require.NoError(t, write(key, "Signed"))
	text := git(t, dir, "cat-file", "commit", "main")
	assert.Contains(t, text, "\ngpgsig -----BEGIN SSH SIGNATURE-----\n ")
	assert.Equal(t, "Signed\n\nWhy.", git(t, dir, "log", "-1", "--format=%B", "main"))
	assert.Equal(t, "Signed", git(t, dir, "show", "main:b.yaml"))
	git(t, dir, "fsck", "--strict")
	if _, err := exec.LookPath("ssh-keygen"); err == nil { // and git itself says so
		allowed := filepath.Join(t.TempDir(), "allowed")
		require.NoError(t, os.WriteFile(allowed, []byte("vigila@localhost "+line), 0o600))
		git(t, dir, "-c", "gpg.format=ssh", "-c", "gpg.ssh.allowedSignersFile="+allowed, "verify-commit", "main")
	}
	require.Error(t, write("no key", "Nothing"))
}
