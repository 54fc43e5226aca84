package db

import (
	"context"
	"errors"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// HouseSetting is the setting of the house's styles, a job.HouseStyles.
const HouseSetting = "house"

// HouseStyles are the styles of the house.
func (q Base) HouseStyles(ctx context.Context) (job.HouseStyles, error) {
	s := job.HouseStyles{Styles: []job.HouseStyle{}}
	_, err := q.Setting(ctx, HouseSetting, &s)
	return s, err
}

const houseColumns = `id, kind, name, width, height, family, bold, letters`

// HouseFile reads a file of house styles by its number. The error is a
// *NotFound when there is none.
func (q Base) HouseFile(ctx context.Context, id string) (job.HouseFile, []byte, error) {
	var f struct {
		job.HouseFile
		Data []byte `db:"data"`
	}
	err := sqlx.GetContext(ctx, q.Ext, &f, `SELECT `+houseColumns+`, data FROM house_files WHERE id = $1`, id)
	return f.HouseFile, f.Data, Found(err, "file of a house style", id)
}

// HouseFiles lists the files of house styles, without their bytes.
func (q Base) HouseFiles(ctx context.Context) ([]job.HouseFile, error) {
	all := []job.HouseFile{}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT `+houseColumns+` FROM house_files ORDER BY kind, name, id LIMIT 200`)
	return all, Wrap(err, "list the files of house styles")
}

// MostHouseFiles is how many files of house styles are kept at once.
const MostHouseFiles = 100

// ErrFull says that no more of something is kept.
var ErrFull = errors.New("no more of them are kept")

// KeepHouseFile keeps a file of house styles, and those that no style uses for
// a day only. The error is ErrFull when there are too many.
func (q Base) KeepHouseFile(ctx context.Context, f job.HouseFile, data []byte, used []string) error {
	if _, err := q.Ext.ExecContext(ctx, `DELETE FROM house_files WHERE kept_at < now() - interval '1 day' AND id <> ALL ($1)`,
		used); err != nil {
		return Wrap(err, "remove unused files of house styles")
	}
	var others int
	if err := sqlx.GetContext(ctx, q.Ext, &others, `SELECT count(*) FROM house_files WHERE id <> $1`, f.ID); err != nil {
		return Wrap(err, "count the files of house styles")
	}
	if others >= MostHouseFiles {
		return ErrFull
	}
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO house_files (id, kind, name, width, height, family, bold, letters, data)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) ON CONFLICT (id) DO UPDATE SET kept_at = now(), name = excluded.name`,
		f.ID, f.Kind, f.Name, f.Width, f.Height, f.Family, f.Bold, f.Letters, data)
	return Wrap(err, "keep a file of a house style")
}

// TouchHouseFiles lets files of house styles stay for another day when no style uses them.
func (q Base) TouchHouseFiles(ctx context.Context, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	_, err := q.Ext.ExecContext(ctx, `UPDATE house_files SET kept_at = now() WHERE id = ANY ($1)`, ids)
	return Wrap(err, "keep files of house styles")
}

// HouseStylesChosen are the styles that reports choose, each with one of them.
func (q Base) HouseStylesChosen(ctx context.Context) (map[string]string, error) {
	var all []struct {
		Style  string `db:"style"`
		Report string `db:"report"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT v.definition->>'house_style' AS style, min(r.name) AS report
		FROM reports r JOIN report_versions v ON v.report_id = r.id AND v.version = r.version
		WHERE v.definition->>'house_style' <> '' AND r.removed_at IS NULL GROUP BY 1`)
	out := map[string]string{}
	for _, one := range all {
		out[one.Style] = one.Report
	}
	return out, Wrap(err, "list the house styles that reports choose")
}
