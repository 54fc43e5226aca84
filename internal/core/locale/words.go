package locale

// Words are the short texts of the product that stand in files, in a language.
type Words struct {
	Total, AsOf, Values, Run, Page, Of, NoRows, Yes, No, None, Detail, Identity, Times, Before, Contents, Others string
}

// words are those of a catalogue.
func (l *Locale) words() Words {
	say := func(text string) string { return l.Say(text) }
	return Words{
		Total: say("Total"), AsOf: say("As of"), Values: say("Values"), Run: say("Run"), Page: say("Page"), Of: say("of"),
		NoRows: say("No rows."), Yes: say("yes"), No: say("no"), None: say("none"), Detail: say("detail"), Identity: say("Read as"),
		Times: say("Times are in"), Before: say("before"), Contents: say("Contents"), Others: say("others"),
	}
}
