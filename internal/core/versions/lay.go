package versions

import (
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/object"
)

// Split takes the text of an image apart: its repository as it is written, its tag and its digest.
func Split(image string) (repository, tag, digest string) {
	repository, digest, _ = strings.Cut(image, "@")
	if i := strings.LastIndex(repository, ":"); i > strings.LastIndex(repository, "/") {
		repository, tag = repository[:i], repository[i+1:]
	}
	return repository, tag, digest
}

// Of is the text of an image of a repository at a version.
func (im Image) Of(repository string) string {
	if im.Tag != "" {
		repository += ":" + im.Tag
	}
	if im.Digest != "" {
		repository += "@" + im.Digest
	}
	return repository
}

// Find is the version that is taken of the image of a repository, and the name that it is written under.
func (f *File) Find(repository string) (im Image, written string, ok bool) {
	if im, ok = f.Images[repository]; ok {
		return im, repository, true
	}
	for other, im := range f.Images {
		if sameRepository(other, repository) {
			return im, other, true
		}
	}
	return im, "", false
}

// Lay gives every image of some objects the version that is taken of it, in place. used are the names of the images that it has met.
func (f *File) Lay(objects []object.Object) (used []string) {
	met := map[string]bool{}
	for _, o := range objects {
		f.images(o.Ref, o.Body, func(in map[string]any, key string) {
			text, _ := in[key].(string)
			repository, _, _ := Split(text)
			if im, written, ok := f.Find(repository); ok && text != "" {
				in[key] = im.Of(repository)
				met[written] = true
			}
		})
	}
	for written := range met {
		used = append(used, written)
	}
	slices.Sort(used)
	return used
}

// images goes through every image of an object: of the containers and the image volumes of its Pods, and at the paths of its kind.
func (f *File) images(ref object.Ref, body map[string]any, do func(in map[string]any, key string)) {
	for _, spec := range podSpecs(ref, body) {
		for _, field := range []string{"containers", "initContainers", "ephemeralContainers"} {
			for _, c := range list(spec[field]) {
				if m := mapping(c); m["image"] != nil {
					do(m, "image")
				}
			}
		}
		for _, v := range list(spec["volumes"]) { // https://kubernetes.io/docs/concepts/storage/volumes/#image
			if m := mapping(mapping(v)["image"]); m["reference"] != nil {
				do(m, "reference")
			}
		}
	}
	for _, p := range f.Paths {
		if p.Kind == ref.Kind && p.Group == ref.Group {
			walk(body, p.At, do)
		}
	}
}

// podSpecs are the specs of the Pods that an object of Kubernetes' own kinds makes.
// Source: https://kubernetes.io/docs/reference/kubernetes-api/workload-resources/
func podSpecs(ref object.Ref, body map[string]any) (out []map[string]any) {
	var at []string
	switch ref.Group + "/" + ref.Kind {
	case "/Pod":
		at = []string{"spec"}
	case "/PodTemplate":
		at = []string{"template", "spec"}
	case "batch/CronJob":
		at = []string{"spec", "jobTemplate", "spec", "template", "spec"}
	case "apps/Deployment", "apps/StatefulSet", "apps/DaemonSet", "apps/ReplicaSet", "/ReplicationController", "batch/Job":
		at = []string{"spec", "template", "spec"}
	default:
		return nil
	}
	for _, key := range at {
		if body = mapping(body[key]); body == nil {
			return nil
		}
	}
	return []map[string]any{body}
}

// walk goes to the end of a path, into all entries of its lists.
func walk(body map[string]any, at []string, do func(in map[string]any, key string)) {
	key, all := strings.CutSuffix(at[0], "[]")
	if len(at) == 1 && !all {
		if body[key] != nil {
			do(body, key)
		}
		return
	}
	if !all {
		if m := mapping(body[key]); m != nil {
			walk(m, at[1:], do)
		}
		return
	}
	for _, x := range list(body[key]) {
		if m := mapping(x); m != nil && len(at) > 1 {
			walk(m, at[1:], do)
		}
	}
}

func mapping(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}

func list(v any) []any {
	l, _ := v.([]any)
	return l
}
