package task

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"path/filepath"

	"ironbell/internal/artifact"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"

	"github.com/dustin/go-humanize"
)

// errTooLarge says that a file is larger than its task allows.
var errTooLarge = errors.New("it is larger than allowed")

// keep copies a stream into a kept file of at most largest bytes.
func keep(ctx context.Context, folder *artifact.Folder, in io.Reader, name string,
	largest int64,
) (job.Artifact, error) {
	file, err := folder.Create()
	if err != nil {
		return job.Artifact{}, err
	}
	n, err := io.Copy(file, io.LimitReader(&patient{ctx, in}, largest+1))
	if err == nil && n > largest {
		err = fault.Wrap(fmt.Errorf("%q has more than %s: %w", name, humanize.IBytes(uint64(max(largest, 0))),
			errTooLarge), fault.Lasting, fault.Task, "", "Let the task take larger files, if this one is right.")
	}
	if err != nil {
		file.Drop()
		return job.Artifact{}, err
	}
	kept, err := file.Keep()
	if err != nil {
		return job.Artifact{}, err
	}
	media := mime.TypeByExtension(filepath.Ext(name))
	if media == "" {
		media = "application/octet-stream"
	}
	return job.Artifact{
		Format: "file", Name: name, MediaType: media, Size: kept.Size, SHA256: kept.SHA256, Key: kept.Key,
	}, nil
}

// patient ends a long copy with its context.
type patient struct {
	ctx context.Context //nolint:containedctx // it lives as long as one copy
	in  io.Reader
}

func (p *patient) Read(b []byte) (int, error) {
	if p.ctx.Err() != nil {
		return 0, context.Cause(p.ctx)
	}
	return p.in.Read(b)
}
