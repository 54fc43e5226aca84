package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"

	"ironbell/client"
	"ironbell/internal/release"
)

// versionOf prints both versions. That the service does not answer is no error: the client's own is known all the same.
func versionOf(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		said := struct {
			Client  string `json:"client"`
			Service string `json:"service,omitempty"`
			URL     string `json:"url"`
			Says    string `json:"says,omitempty"`
		}{Client: release.This().Name(), URL: i.connect().URL()}
		v, err := i.connect().Version(ctx)
		var none *client.Unreachable
		var refused *client.Problem
		switch {
		case err == nil:
			said.Service, said.Says = v.Version, release.Differ(said.Client, v.Version)
		case errors.As(err, &none):
			said.Says = "The service at " + said.URL + " does not answer, so that its version is not known."
		case errors.As(err, &refused):
			said.Says = "The service at " + said.URL + " tells no version: it is older than this client, or another program."
		default:
			return 0, err
		}
		if *asJSON {
			return 0, printJSON(i.Out, said)
		}
		fmt.Fprintf(i.Out, "client   %s\n", said.Client)
		if said.Service != "" {
			fmt.Fprintf(i.Out, "service  %s, at %s\n", said.Service, said.URL)
		}
		if said.Says != "" {
			fmt.Fprintln(i.Out, said.Says)
		}
		return 0, nil
	}
}
