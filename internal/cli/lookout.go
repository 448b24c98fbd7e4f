package cli

import (
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

// joining is how a lookout is to be run.
type joining struct {
	on                  bool // a lookout is to keep the cluster
	image, url, ca, dir string
	namespaces          []string
}

func (j *joining) flags(c *cobra.Command) {
	f := c.Flags()
	f.BoolVar(&j.on, "by-lookout", false, "a lookout keeps it, which runs in it or beside it and calls this service")
	f.StringVar(&j.image, "image", "", "with --by-lookout: the image of Vigila that the cluster can pull; manifests are printed then")
	f.StringVar(&j.url, "call", "", "with --by-lookout: the address that the lookout calls (default: the one that this command uses)")
	f.StringVar(&j.ca, "call-ca-file", "", "with --by-lookout: authorities (PEM) of that address's certificate")
	f.StringSliceVar(&j.namespaces, "only-namespace", nil, "namespaces that Vigila may look into: it watches these alone, and keeps nothing elsewhere; * for all again; with --by-lookout the lookout sees to it, whatever the service says")
	f.StringVar(&j.dir, "dir", "", "with --image: a directory, for git, that the manifests are written into, but for the token")
}

// join lets a lookout join, and says how it is run.
func (a *app) join(c *cobra.Command, conn *client.Conn, in client.AddCluster, j joining) error {
	if j.dir != "" && j.image == "" {
		return usage("--dir is for manifests, which need --image: the image of Vigila that the cluster can pull")
	}
	if j.url == "" {
		j.url = conn.Context.URL
	}
	if u, err := url.Parse(j.url); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return usage("--call is %q; write the address that the lookout calls, such as https://vigila.brindle.example", j.url)
	}
	if err := (shape{"--image", j.image, anImage, "REGISTRY/NAME:TAG"}).check(); err != nil {
		return err
	}
	authorities := ""
	if j.ca != "" {
		b, err := os.ReadFile(j.ca)
		if err != nil {
			return err
		}
		authorities = string(b)
	}
	body := client.LetLookoutJoin{About: in.About, Links: in.Links, OnlyNamespaces: j.namespaces}
	if c.Flags().Changed("label") {
		body.Labels = in.Labels
	}
	r, err := conn.LetLookoutJoinWithResponse(c.Context(), in.Name, body)
	if err := conn.Check(r, err); err != nil {
		return err
	}
	j.namespaces = r.JSON200.OnlyNamespaces // those of before, where none is said
	out := c.OutOrStdout()
	until := r.JSON200.Until.Local().Format("15:04")
	switch {
	case j.image == "":
		p := a.printer(out)
		p.line("%s waits for its lookout. Run it where the cluster can be reached; the token is good once, until %s:", visible.Line(in.Name), until)
		p.line("\nVIGILA_JOIN=%s \\\n  vigila lookout --service %s --service-key %s --kubeconfig FILE%s", r.JSON200.JoinToken, j.url, r.JSON200.ServiceKey, onlyFlags(j.namespaces))
		p.line("\n%s", p.paint("soft", "For manifests that run it inside the cluster: --image IMAGE"))
	case j.dir == "":
		fmt.Fprint(out, lookoutManifests(*r.JSON200, j, authorities), joinSecret(*r.JSON200))
		fmt.Fprintf(c.ErrOrStderr(), "%s waits for its lookout; the token in the manifests is good once, until %s.\n", visible.Line(in.Name), until)
	default:
		if err := os.MkdirAll(j.dir, 0o755); err != nil {
			return err
		}
		at := filepath.Join(j.dir, "lookout.yaml")
		if err := os.WriteFile(at, []byte(lookoutManifests(*r.JSON200, j, authorities)), 0o644); err != nil {
			return err
		}
		fmt.Fprintf(c.ErrOrStderr(), "%s is written, and holds nothing secret. The token does not belong into git; apply it by hand, until %s:\n", at, until)
		fmt.Fprint(out, joinSecret(*r.JSON200))
	}
	return nil
}

func onlyFlags(namespaces []string) string {
	if len(namespaces) == 0 {
		return ""
	}
	return " --only-namespace " + strings.Join(namespaces, ",")
}

// joinSecret is the Secret with the token that a lookout joins with.
func joinSecret(j client.LookoutJoin) string {
	return fmt.Sprintf("---\n# It is needed once, until %s, and may be deleted afterwards.\napiVersion: v1\nkind: Secret\nmetadata: {name: vigila-join, namespace: vigila}\nstringData: {token: %q}\n", j.Until.UTC().Format(time.RFC3339), j.JoinToken)
}

// lookoutManifests run a lookout inside a cluster: its rights are those of vigila cluster rbac.
// Source: https://kubernetes.io/docs/concepts/security/pod-security-standards/ (restricted)
func lookoutManifests(j client.LookoutJoin, how joining, authorities string) string {
	var b strings.Builder
	b.WriteString(rbac("vigila", how.namespaces, nil, false))
	doc := func(format string, args ...any) { fmt.Fprintf(&b, "---\n"+format, args...) }
	args := []string{"lookout", "--data=/data", "--health-listen=:7742", "--join-file=/join/token", "--service=" + how.url, "--service-key=" + j.ServiceKey}
	for _, n := range how.namespaces {
		args = append(args, "--only-namespace="+n)
	}
	mounts, volumes := "", ""
	if authorities != "" {
		args = append(args, "--ca-file=/authorities/ca.pem")
		doc("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: vigila-authorities, namespace: vigila}\ndata:\n  ca.pem: |\n%s", indented(authorities, "    "))
		mounts, volumes = "            - {name: authorities, mountPath: /authorities, readOnly: true}\n", "        - {name: authorities, configMap: {name: vigila-authorities}}\n"
	}
	doc(`apiVersion: v1
kind: PersistentVolumeClaim
metadata: {name: vigila-lookout, namespace: vigila}
spec:
  accessModes: [ReadWriteOnce]
  resources: {requests: {storage: 1Gi}}
`)
	doc(`apiVersion: apps/v1
kind: Deployment
metadata: {name: vigila-lookout, namespace: vigila, labels: {app: vigila-lookout}}
spec:
  replicas: 1
  strategy: {type: Recreate} # one process has the record
  selector: {matchLabels: {app: vigila-lookout}}
  template:
    metadata: {labels: {app: vigila-lookout}}
    spec:
      serviceAccountName: vigila
      securityContext: {runAsNonRoot: true, runAsUser: 65532, runAsGroup: 65532, fsGroup: 65532, seccompProfile: {type: RuntimeDefault}}
      containers:
        - name: lookout
          image: %s
          args:
`, how.image)
	for _, x := range args {
		fmt.Fprintf(&b, "            - %q\n", x)
	}
	fmt.Fprintf(&b, `          ports: [{name: health, containerPort: 7742}]
          livenessProbe: {httpGet: {path: /healthz, port: health}, periodSeconds: 20}
          readinessProbe: {httpGet: {path: /healthz, port: health}}
          resources: {requests: {cpu: 50m, memory: 64Mi}, limits: {memory: 512Mi}}
          securityContext: {allowPrivilegeEscalation: false, readOnlyRootFilesystem: true, capabilities: {drop: [ALL]}}
          volumeMounts:
            - {name: data, mountPath: /data}
            - {name: join, mountPath: /join, readOnly: true}
%s      volumes:
        - {name: data, persistentVolumeClaim: {claimName: vigila-lookout}}
        - {name: join, secret: {secretName: vigila-join, optional: true}}
%s`, mounts, volumes)
	doc(`# It calls the service and the API server, and is called by nobody but the kubelet.
apiVersion: networking.k8s.io/v1
kind: NetworkPolicy
metadata: {name: vigila-lookout, namespace: vigila}
spec:
  podSelector: {matchLabels: {app: vigila-lookout}}
  policyTypes: [Ingress]
  ingress: [{ports: [{port: health}]}]
`)
	return b.String()
}

// indented is a text whose lines all begin with something.
func indented(text, by string) string {
	var b strings.Builder
	for line := range strings.Lines(strings.TrimRight(text, "\n") + "\n") {
		_, _ = io.WriteString(&b, by+line)
	}
	return b.String()
}

// lookout tells of the lookout of a cluster.
func (p *printer) lookout(l client.Lookout) {
	p.line("\n%s", p.paint("bold", "Lookout"))
	switch {
	case l.WaitsToJoin && l.Until.After(time.Now()):
		p.line("  It has not joined yet; its token is good until %s.", l.Until.Local().Format("15:04"))
	case l.WaitsToJoin:
		p.line("  %s", p.paint("failing", "It has not joined, and its token has ended; another: vigila cluster add NAME --by-lookout"))
	case l.Here:
		p.line("  here, came %s, heard of %s  %s", ago(l.Since), ago(l.Heard), p.paint("soft", fmt.Sprintf("version %s, %s received, %s sent", visible.Line(l.Version), size(l.Received), size(l.Sent))))
	default:
		p.line("  %s", p.paint("failing", "? away: heard of last "+ago(l.Heard)+"; it goes on by itself, and its wards are shown as they were"))
	}
	if l.Waiting > 0 {
		p.line("  %s", p.paint("soft", fmt.Sprintf("%d entries and changes of standing are still to come", l.Waiting)))
	}
	if l.Older {
		p.line("  %s", p.paint("drifted", "It is older than the service, and still understood; bring it up to date."))
	}
	if l.Refused != "" {
		p.line("  %s", p.paint("failing", fmt.Sprintf("▲ %s somebody from %s came with a token that was used, or has ended, and was refused.", ago(l.RefusedAt), visible.Line(l.Refused))))
	}
	for i := len(l.Alone) - 1; i >= 0 && i >= len(l.Alone)-shortList; i-- {
		x := l.Alone[i]
		p.line("  %s", p.paint("soft", fmt.Sprintf("on its own from %s to %s", x.From.Local().Format("2006-01-02 15:04:05"), x.To.Local().Format("15:04:05"))))
	}
}

// size is a number of bytes as people say it.
func size(n int64) string {
	switch {
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d bytes", n)
}
