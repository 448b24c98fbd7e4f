package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"filippo.io/age"
	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// installing is how the service is to run in a cluster, or on a machine.
type installing struct {
	image, namespace, host, tlsSecret, size, class string
	backup                                         string
	keep                                           bool // it keeps the cluster that it runs in as well
	pair                                           bool // two of them, of which one stands by
}

func (a *app) install() *cobra.Command {
	c := &cobra.Command{Use: "install", Short: "Print what it takes to run the service for real: manifests for a cluster, a unit for systemd, man pages",
		Long: `Print what it takes to run the service for real. Nothing is installed: what is printed is read, changed, and applied by whoever
reads it, or put into git.`,
		Example: "  vigila install cluster --image registry.brindle.example/vigila:1 --host vigila.brindle.example --tls-secret vigila-tls | kubectl apply -f -\n  vigila install systemd > /etc/systemd/system/vigila.service\n  vigila install man --dir /usr/local/share/man/man1"}
	c.AddCommand(a.installCluster(), a.installKey(), a.installSystemd(), a.installMan())
	return c
}

func (a *app) installCluster() *cobra.Command {
	in := installing{}
	c := &cobra.Command{Use: "cluster", Short: "Print the manifests that run the service in a cluster",
		Long: `Print the manifests that run the service in a cluster: a namespace, a StatefulSet of one with a volume, a Service, probes, a
NetworkPolicy, and the security settings that Kubernetes calls restricted. With --host and --tls-secret an Ingress leads to it, and
what is in front speaks HTTPS; without, kubectl port-forward does. The first start writes the admin token into the volume; another one:
  kubectl -n vigila exec vigila-0 -- /vigila serve --make-admin-token --data /data

With --pair two run, each with a volume of its own: one works, the other keeps a copy of its record and takes over within twenty
seconds when it is gone. Both need the same key, which vigila install key prints as a Secret; apply that first.

Its rights in that cluster are none, unless it is to keep it (--keep-this-cluster): then they are those of vigila cluster rbac.
The image has to hold the programs git and ssh, which repositories are fetched with; make image builds one that does.`,
		Example: "  vigila install cluster --image registry.brindle.example/vigila:1 | kubectl apply -f -\n  vigila install cluster --image registry.brindle.example/vigila:1 --host vigila.brindle.example --tls-secret vigila-tls --keep-this-cluster",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if in.image == "" {
				return usage("vigila install cluster needs --image: the image of Vigila that the cluster can pull")
			}
			if (in.host == "") != (in.tlsSecret == "") {
				return usage("--host and --tls-secret belong together: what is in front of the service speaks HTTPS")
			}
			for _, x := range []shape{{"--image", in.image, anImage, "REGISTRY/NAME:TAG"}, {"--namespace", in.namespace, aName, "small letters, digits and dashes"}, {"--host", in.host, aHost, "vigila.brindle.example"},
				{"--tls-secret", in.tlsSecret, aHost, "the name of a Secret"}, {"--volume", in.size, aSize, "a size such as 10Gi"}, {"--storage-class", in.class, aHost, "the name of a storage class"}} {
				if err := x.check(); err != nil {
					return err
				}
			}
			fmt.Fprint(c.OutOrStdout(), in.manifests())
			return nil
		}}
	f := c.Flags()
	f.StringVar(&in.image, "image", "", "the image of Vigila that the cluster can pull")
	f.StringVar(&in.namespace, "namespace", "vigila", "namespace that it runs in")
	f.StringVar(&in.host, "host", "", "the name that an Ingress leads to it by")
	f.StringVar(&in.tlsSecret, "tls-secret", "", "Secret in that namespace with the certificate of the host")
	f.StringVar(&in.size, "volume", "10Gi", "size of the volume: the record, and mirrors of repositories")
	f.StringVar(&in.class, "storage-class", "", "storage class of the volume; the cluster's default when empty")
	f.StringVar(&in.backup, "backup-to", "", "place that it takes backups into, as vigila serve has it; credentials come from Secret vigila-backup")
	f.BoolVar(&in.pair, "pair", false, "run two, of which one stands by with a copy of the record; the key comes from Secret vigila-key (vigila install key)")
	f.BoolVar(&in.keep, "keep-this-cluster", false, "give it the rights to keep this cluster too: vigila cluster add NAME --in-cluster")
	return c
}

// shape is a value that goes into a manifest, and what it may look like: what is printed is applied as it is.
type shape struct {
	flag, value string
	is          *regexp.Regexp
	write       string
}

// Sources: https://kubernetes.io/docs/concepts/overview/working-with-objects/names/ and the reference grammar of
// https://github.com/opencontainers/distribution-spec
var (
	anImage = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:/@-]*$`)
	aName   = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)
	aHost   = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?$`)
	aSize   = regexp.MustCompile(`^[0-9]+(\.[0-9]+)?([EPTGMK]i?|k)?$`)
)

// check refuses what would break the manifest; nothing is nothing.
func (s shape) check() error {
	if s.value == "" || s.is.MatchString(s.value) {
		return nil
	}
	return usage("%s is %q; write %s", s.flag, s.value, s.write)
}

// manifests run the service in a cluster.
// Source: https://kubernetes.io/docs/concepts/security/pod-security-standards/ (restricted)
func (in installing) manifests() string {
	var b strings.Builder
	doc := func(format string, args ...any) { fmt.Fprintf(&b, "---\n"+format, args...) }
	ns := in.namespace
	if in.keep {
		b.WriteString(rbac(ns, nil, nil, false))
	} else {
		doc("apiVersion: v1\nkind: Namespace\nmetadata: {name: %s}\n", ns)
		doc("apiVersion: v1\nkind: ServiceAccount\nmetadata: {name: vigila, namespace: %s}\n", ns)
	}
	args := []string{"serve", "--listen=:7740", "--data=/data", "--admin-token-file=/data/admin-token", "--plain-http"}
	from := ""
	if in.backup != "" {
		args = append(args, "--backup-to="+in.backup)
		from = "          envFrom: [{secretRef: {name: vigila-backup, optional: true}}] # AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY\n"
	}
	env, replicas, name, apart := "[{name: HOME, value: /data}]", "1 # one process has the record", "vigila", ""
	if in.pair {
		args = append(args, "--lease="+ns+"/vigila", fmt.Sprintf("--stand-by-of=http://vigila-0.vigila-each.%[1]s:7740,http://vigila-1.vigila-each.%[1]s:7740", ns))
		env = "[{name: HOME, value: /data}, {name: VIGILA_KEY, valueFrom: {secretKeyRef: {name: vigila-key, key: key}}}]"
		replicas, name = "2 # one works, the other stands by", "vigila-each"
		apart = "      affinity: {podAntiAffinity: {preferredDuringSchedulingIgnoredDuringExecution: [{weight: 100, podAffinityTerm: {topologyKey: kubernetes.io/hostname, labelSelector: {matchLabels: {app: vigila}}}}]}}\n"
		doc("# Which of the two works is who holds this Lease.\napiVersion: rbac.authorization.k8s.io/v1\nkind: Role\nmetadata: {name: vigila-lease, namespace: %s}\nrules: [{apiGroups: [coordination.k8s.io], resources: [leases], verbs: [get, create, update]}]\n", ns)
		doc("apiVersion: rbac.authorization.k8s.io/v1\nkind: RoleBinding\nmetadata: {name: vigila-lease, namespace: %[1]s}\nroleRef: {apiGroup: rbac.authorization.k8s.io, kind: Role, name: vigila-lease}\nsubjects: [{kind: ServiceAccount, name: vigila, namespace: %[1]s}]\n", ns)
		doc("# Each of the two by its name, whether it works or not: the other one finds it here.\napiVersion: v1\nkind: Service\nmetadata: {name: vigila-each, namespace: %s}\nspec:\n  clusterIP: None\n  publishNotReadyAddresses: true\n  selector: {app: vigila}\n  ports: [{name: http, port: 7740}]\n", ns)
	}
	token := "false"
	if in.keep || in.pair {
		token = "true"
	}
	class := ""
	if in.class != "" {
		class = "\n        storageClassName: " + in.class
	}
	doc(`apiVersion: v1
kind: Service
metadata: {name: vigila, namespace: %s}
spec:
  selector: {app: vigila}
  ports: [{name: http, port: 80, targetPort: http}]
`, ns)
	doc(`apiVersion: apps/v1
kind: StatefulSet
metadata: {name: vigila, namespace: %s, labels: {app: vigila}}
spec:
  serviceName: %s
  podManagementPolicy: Parallel # the one that stands by is ready when it works, and not before
  replicas: %s
  selector: {matchLabels: {app: vigila}}
  template:
    metadata: {labels: {app: vigila}}
    spec:
      serviceAccountName: vigila
      automountServiceAccountToken: %s
      securityContext: {runAsNonRoot: true, runAsUser: 65532, runAsGroup: 65532, fsGroup: 65532, seccompProfile: {type: RuntimeDefault}}
      terminationGracePeriodSeconds: 30
%s      containers:
        - name: vigila
          image: %s
          args: [%s]
          env: %s
%s          ports: [{name: http, containerPort: 7740}]
          startupProbe: {httpGet: {path: /healthz, port: http}, periodSeconds: 2, failureThreshold: 60}
          livenessProbe: {httpGet: {path: /healthz, port: http}, periodSeconds: 20}
          readinessProbe: {httpGet: {path: /readyz, port: http}}
          resources: {requests: {cpu: 100m, memory: 256Mi}, limits: {memory: 2Gi}}
          securityContext: {allowPrivilegeEscalation: false, readOnlyRootFilesystem: true, capabilities: {drop: [ALL]}}
          volumeMounts:
            - {name: data, mountPath: /data}
            - {name: tmp, mountPath: /tmp}
      volumes: [{name: tmp, emptyDir: {}}]
  volumeClaimTemplates:
    - metadata: {name: data}
      spec:
        accessModes: [ReadWriteOnce]
        resources: {requests: {storage: %s}}%s
`, ns, name, replicas, token, apart, in.image, quoted(args), env, from, in.size, class)
	doc(`# Whoever may reach it: what is in front of it, and lookouts. What it reaches (repositories, registries, clusters) is not limited here.
apiVersion: networking.k8s.io/v1
kind: NetworkPolicy
metadata: {name: vigila, namespace: %s}
spec:
  podSelector: {matchLabels: {app: vigila}}
  policyTypes: [Ingress]
  ingress: [{ports: [{port: http}]}]
`, ns)
	if in.host != "" {
		doc(`# Event streams and lookouts keep their connections open: what is in front must not end them after a minute.
apiVersion: networking.k8s.io/v1
kind: Ingress
metadata: {name: vigila, namespace: %s}
spec:
  tls: [{hosts: [%s], secretName: %s}]
  rules:
    - host: %s
      http: {paths: [{path: /, pathType: Prefix, backend: {service: {name: vigila, port: {name: http}}}}]}
`, ns, in.host, in.tlsSecret, in.host)
	}
	return b.String()
}

func (a *app) installKey() *cobra.Command {
	var namespace string
	c := &cobra.Command{Use: "key", Short: "Print a Secret with a new key, for services that share one",
		Long: `Print a Secret with a new key (age), for services that share one: what is secret in their record is encrypted with it, and they know
each other by it. Keep a copy where backups are not: without it nothing of a backup can be read.`,
		Example: "  vigila install key | kubectl apply -f -", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := (shape{"--namespace", namespace, aName, "small letters, digits and dashes"}).check(); err != nil {
				return err
			}
			id, err := age.GenerateX25519Identity()
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "apiVersion: v1\nkind: Secret\nmetadata: {name: vigila-key, namespace: %s}\nstringData: {key: %q}\n", namespace, id.String())
			return nil
		}}
	c.Flags().StringVar(&namespace, "namespace", "vigila", "namespace that the services run in")
	return c
}

func quoted(all []string) string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = fmt.Sprintf("%q", x)
	}
	return strings.Join(out, ", ")
}

func (a *app) installSystemd() *cobra.Command {
	var binary, user string
	var lookout bool
	c := &cobra.Command{Use: "systemd", Short: "Print a unit that runs the service, or a lookout, on a machine with systemd",
		Long: `Print a unit for systemd that runs the service, or with --for-lookout a lookout, as a user of its own and with little right to anything else. Its settings
stand in /etc/vigila/vigila.yaml (vigila serve --config), those of a lookout in /etc/vigila/lookout.env (VIGILA_SERVICE, VIGILA_SERVICE_KEY, VIGILA_JOIN).`,
		Example: "  useradd --system vigila\n  vigila install systemd > /etc/systemd/system/vigila.service\n  systemctl enable --now vigila\n  vigila install systemd --for-lookout > /etc/systemd/system/vigila-lookout.service", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			fmt.Fprint(c.OutOrStdout(), unit(binary, user, lookout))
			return nil
		}}
	c.Flags().StringVar(&binary, "binary", "/usr/local/bin/vigila", "where the program is")
	c.Flags().StringVar(&user, "user", "vigila", "who it runs as")
	c.Flags().BoolVar(&lookout, "for-lookout", false, "a lookout in place of the service")
	return c
}

// unit is a unit of systemd.
// Source: https://www.freedesktop.org/software/systemd/man/latest/systemd.exec.html
func unit(binary, user string, lookout bool) string {
	what, dir, run := "Vigila keeps watch", "vigila", "serve --config /etc/vigila/vigila.yaml --data /var/lib/vigila --admin-token-file /var/lib/vigila/admin-token"
	env := ""
	if lookout {
		what, dir, run = "Vigila's lookout keeps watch", "vigila-lookout", "lookout --data /var/lib/vigila-lookout --kubeconfig /etc/vigila/kubeconfig.yaml"
		env = "EnvironmentFile=/etc/vigila/lookout.env\n"
	}
	return fmt.Sprintf(`[Unit]
Description=%s
After=network-online.target
Wants=network-online.target

[Service]
ExecStart=%s %s
%sUser=%s
StateDirectory=%s
StateDirectoryMode=0700
Restart=always
RestartSec=2
TimeoutStopSec=30
NoNewPrivileges=yes
ProtectSystem=strict
ProtectHome=yes
PrivateTmp=yes
PrivateDevices=yes
ProtectKernelTunables=yes
ProtectKernelModules=yes
ProtectControlGroups=yes
RestrictSUIDSGID=yes
RestrictRealtime=yes
LockPersonality=yes
CapabilityBoundingSet=
UMask=0077

[Install]
WantedBy=multi-user.target
`, what, binary, run, env, user, dir)
}

func (a *app) installMan() *cobra.Command {
	var dir string
	c := &cobra.Command{Use: "man", Short: "Write a man page for every command into a directory", Example: "  vigila install man --dir /usr/local/share/man/man1\n  vigila completion bash > /etc/bash_completion.d/vigila", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if dir == "" {
				return usage("say where with --dir: a directory such as /usr/local/share/man/man1")
			}
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			root := c.Root()
			root.DisableAutoGenTag = true // the same pages every time
			if err := doc.GenManTree(root, &doc.GenManHeader{Section: "1", Source: "Vigila " + root.Version, Manual: "Vigila"}, dir); err != nil {
				return err
			}
			all, err := filepath.Glob(filepath.Join(dir, "vigila*.1"))
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%d pages are in %s; man vigila begins.\n", len(all), dir)
			return nil
		}}
	c.Flags().StringVar(&dir, "dir", "", "directory that they are written into")
	return c
}
