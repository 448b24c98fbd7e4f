package main

import (
	_ "github.com/spf13/cobra"
	_ "k8s.io/client-go/dynamic"
	_ "k8s.io/client-go/kubernetes"
	_ "k8s.io/client-go/tools/clientcmd"
	"vigila.dev/lab/plane"
)

func main() { plane.Role() }
