// Package plane runs a real Kubernetes control plane on loopback: one embedded etcd, and an API server and a
// controller manager for each cluster, every one of them a re-executed child of this binary. Start with Plane.
package plane

import (
	"fmt"
	"net/url"
	"os"
	"time"

	"go.etcd.io/etcd/server/v3/embed"
	"k8s.io/component-base/cli"
	apiserver "k8s.io/kubernetes/cmd/kube-apiserver/app"
	controllers "k8s.io/kubernetes/cmd/kube-controller-manager/app"
)

// RoleVar is the environment variable that tells a re-executed child which part of the plane it is.
const RoleVar = "VIGILA_LAB_ROLE"

// Role runs the part of the plane named by RoleVar and never returns when there is one; it returns at once in
// the parent. A child ends when its standard input closes, so a crash of the parent leaves none behind.
func Role() {
	role := os.Getenv(RoleVar)
	if role == "" {
		return
	}
	go func() {
		buf := make([]byte, 1)
		for {
			if _, err := os.Stdin.Read(buf); err != nil {
				os.Exit(0)
			}
		}
	}()
	switch role {
	case "etcd":
		if err := runEtcd(os.Args[1], os.Args[2], os.Args[3]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	case "apiserver":
		os.Exit(cli.Run(apiserver.NewAPIServerCommand()))
	case "controllers":
		os.Exit(cli.Run(controllers.NewControllerManagerCommand()))
	default:
		fmt.Fprintf(os.Stderr, "unknown role %q in %s\n", role, RoleVar)
		os.Exit(2)
	}
}

func runEtcd(dir, client, peer string) error {
	cfg := embed.NewConfig()
	cfg.Dir = dir
	cfg.UnsafeNoFsync = true // a lab has nothing to lose, and fsync is most of its start time
	cfg.LogLevel = "error"
	clientURL, err := url.Parse(client)
	if err != nil {
		return err
	}
	peerURL, err := url.Parse(peer)
	if err != nil {
		return err
	}
	cfg.ListenClientUrls, cfg.AdvertiseClientUrls = []url.URL{*clientURL}, []url.URL{*clientURL}
	cfg.ListenPeerUrls, cfg.AdvertisePeerUrls = []url.URL{*peerURL}, []url.URL{*peerURL}
	cfg.InitialCluster = cfg.InitialClusterFromName(cfg.Name)
	e, err := embed.StartEtcd(cfg)
	if err != nil {
		return fmt.Errorf("start etcd in %s: %w", dir, err)
	}
	defer e.Close()
	select {
	case <-e.Server.ReadyNotify():
	case <-time.After(time.Minute):
		return fmt.Errorf("etcd in %s was not ready within a minute", dir)
	}
	return <-e.Err()
}
