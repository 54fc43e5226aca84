package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/house"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

// AddHouseFile keeps a logo or a typeface for house styles: read in a process of
// its own, and a picture written anew. The same file twice is one.
func (st *Settings) AddHouseFile(ctx context.Context, who job.Person, name string, data []byte) (job.HouseFile, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return job.HouseFile{}, err
	}
	v := &fault.Invalid{What: "the file of a house style"}
	CheckName(v, "name", name)
	f, kept, err := weighed(ctx, name, data)
	if err != nil {
		v.Add("data", "%s", err)
	}
	if err := v.Err(); err != nil {
		return job.HouseFile{}, err
	}
	return f, st.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, db.HouseSetting); err != nil {
			return err
		}
		if err := keepHouseFile(ctx, v, "data", t, f, kept); err != nil {
			return err
		}
		if err := v.Err(); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "add", "setting", db.HouseSetting, nil, f)
	})
}

// weighed reads a file of a house style; the error says what is wrong with it.
func weighed(ctx context.Context, name string, data []byte) (job.HouseFile, []byte, error) {
	w, err := house.Examine(ctx, data)
	if err != nil {
		return job.HouseFile{}, nil, err //nolint:wrapcheck // it is a sentence for whoever sent the file
	}
	sum := sha256.Sum256(w.Data)
	return job.HouseFile{
		ID: hex.EncodeToString(sum[:]), Kind: w.Kind, Name: name, Width: w.Width, Height: w.Height, Family: w.Family, Bold: w.Bold,
		Letters: w.Letters,
	}, w.Data, nil
}

// keepHouseFile keeps a file beside those that the styles use.
func keepHouseFile(ctx context.Context, v *fault.Invalid, field string, t *store.Tx, f job.HouseFile, data []byte) error {
	styles, err := t.HouseStyles(ctx)
	if err != nil {
		return err
	}
	used := []string{}
	for _, s := range styles.Styles {
		used = append(used, s.Files()...)
	}
	err = t.KeepHouseFile(ctx, f, data, used)
	if errors.Is(err, db.ErrFull) {
		v.Add(field, "there are %d files of house styles, and no more are kept; one that no style uses goes after a day",
			db.MostHouseFiles)
		return nil
	}
	return err
}

// mostCarried bounds the bytes of a house's file that stands in its record.
const mostCarried = 256 << 10

// House are the styles of the house as they stand in a file, with the files that they are made of.
func (st *Settings) House(ctx context.Context) (r job.HouseRecord, err error) {
	if r.HouseStyles, err = st.store.HouseStyles(ctx); err != nil {
		return r, err
	}
	had := map[string]bool{}
	for _, s := range r.Styles {
		for _, id := range s.Files() {
			if had[id] {
				continue
			}
			had[id] = true
			f, data, err := st.store.HouseFile(ctx, id)
			if err != nil {
				return r, err
			}
			if len(data) <= mostCarried {
				r.Files = append(r.Files, job.HouseData{ID: id, Name: f.Name, Data: data})
			}
		}
	}
	return r, nil
}

// SaveHouse saves the styles of the house, with files that came with them. A
// style that a report chooses stays.
func (st *Settings) SaveHouse(ctx context.Context, who job.Person, all job.HouseStyles, sent ...job.HouseData) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	if all.Styles == nil {
		all.Styles = []job.HouseStyle{}
	}
	v := &fault.Invalid{What: "the house styles"}
	came := make([]job.HouseFile, len(sent))
	data := make([][]byte, len(sent))
	for i, f := range sent {
		var err error
		if came[i], data[i], err = weighed(ctx, f.Name, f.Data); err != nil {
			v.Add(fmt.Sprintf("files[%d].data", i), "%s", err)
			continue
		}
		all = renumbered(all, f.ID, came[i].ID)
	}
	if err := v.Err(); err != nil {
		return err
	}
	return st.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, db.HouseSetting); err != nil {
			return err
		}
		for i, f := range came {
			if err := keepHouseFile(ctx, v, fmt.Sprintf("files[%d]", i), t, f, data[i]); err != nil {
				return err
			}
		}
		if err := checkHouse(ctx, v, t, all); err != nil {
			return err
		}
		chosen, err := t.HouseStylesChosen(ctx)
		if err != nil {
			return err
		}
		for style, report := range chosen {
			if _, ok := all.Find(style); !ok {
				v.Add("styles", "the report %q chooses the style %q, which is no longer among them; choose another one there first",
					report, style)
			}
		}
		if err := v.Err(); err != nil {
			return err
		}
		before, err := t.HouseStyles(ctx)
		if err != nil {
			return err
		}
		if err := t.PutSetting(ctx, db.HouseSetting, all); err != nil {
			return err
		}
		// What was in use until now can be put back for a day.
		var dropped []string
		for _, s := range before.Styles {
			dropped = append(dropped, s.Files()...)
		}
		if err := t.TouchHouseFiles(ctx, dropped); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", db.HouseSetting, before, all)
	})
}

// renumbered are styles that name a file by another number: a picture that another
// program wrote has another one when it is written anew.
func renumbered(all job.HouseStyles, from, to string) job.HouseStyles {
	out := job.HouseStyles{Styles: slices.Clone(all.Styles)}
	for i := range out.Styles {
		s := &out.Styles[i]
		for _, id := range []*string{&s.Logo, &s.Regular, &s.Bold} {
			if *id == from {
				*id = to
			}
		}
	}
	return out
}

// CheckHouse tells what is wrong with styles, as SaveHouse would.
func (st *Settings) CheckHouse(ctx context.Context, all job.HouseStyles) error {
	v := &fault.Invalid{What: "the house styles"}
	if err := checkHouse(ctx, v, st.store, all); err != nil {
		return err
	}
	return v.Err()
}

// houseFiles reads what the store knows of a style's files.
type houseFiles interface {
	HouseFile(ctx context.Context, id string) (job.HouseFile, []byte, error)
}

func checkHouse(ctx context.Context, v *fault.Invalid, files houseFiles, all job.HouseStyles) error {
	names := map[string]bool{}
	for i, s := range all.Styles {
		at := func(field string) string { return fmt.Sprintf("styles[%d].%s", i, field) }
		CheckName(v, at("name"), s.Name)
		if lower := strings.ToLower(s.Name); names[lower] {
			v.Add(at("name"), "there are two styles called %q", s.Name)
		} else {
			names[lower] = true
		}
		for field, colour := range map[string]string{"accent": s.Accent, "ink": s.Ink} {
			checkColour(v, at(field), colour)
		}
		for n, colour := range s.Series {
			if colour == "" {
				v.Add(at(fmt.Sprintf("series[%d]", n)), "name a colour, such as #14507a")
			}
			checkColour(v, at(fmt.Sprintf("series[%d]", n)), colour)
		}
		if strings.ContainsAny(s.Typeface, `"'<>&;{}\`+"\n\r") {
			v.Add(at("typeface"), "%q is no name of a typeface", s.Typeface)
		}
		if strings.ContainsAny(s.Footer, "\n\r") {
			v.Add(at("footer"), "it is one line")
		}
		if s.Bold != "" && s.Regular == "" {
			v.Add(at("bold"), "a bold typeface goes with a regular one")
		}
		for field, want := range map[string][2]string{
			"logo": {s.Logo, house.KindLogo}, "regular": {s.Regular, house.KindTypeface}, "bold": {s.Bold, house.KindTypeface},
		} {
			if want[0] == "" {
				continue
			}
			f, _, err := files.HouseFile(ctx, want[0])
			switch {
			case db.IsMissing(err):
				v.Add(at(field), "there is no uploaded file with this number; send it first (POST /api/settings/house/files)")
			case err != nil:
				return err
			case f.Kind != want[1]:
				v.Add(at(field), "the file %q is a %s; it takes a %s", f.Name, f.Kind, want[1])
			}
		}
	}
	return nil
}

func checkColour(v *fault.Invalid, field, colour string) {
	if colour == "" {
		return
	}
	if b, err := hex.DecodeString(strings.TrimPrefix(colour, "#")); err != nil || len(b) != 3 || colour[0] != '#' {
		v.Add(field, "%q is no colour; write a sign # and six hexadecimal digits, such as #14507a", colour)
	}
}

type houseStyles interface {
	HouseStyles(ctx context.Context) (job.HouseStyles, error)
}

// houseStyle checks that a style which a report chooses is there.
func houseStyle(ctx context.Context, v *fault.Invalid, from houseStyles, name string) error {
	if name == "" {
		return nil
	}
	all, err := from.HouseStyles(ctx)
	if err != nil {
		return err
	}
	if _, ok := all.Find(name); !ok {
		var names []string
		for _, s := range all.Styles {
			names = append(names, s.Name)
		}
		if len(names) == 0 {
			v.Add("house_style", "there is no house style %q; an administrator makes them in the settings", name)
		} else {
			v.Add("house_style", "there is no house style %q; there are %s", name, strings.Join(names, ", "))
		}
	}
	return nil
}
