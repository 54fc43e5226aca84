package locale

// Words are the fixed words of a document.
type Words struct {
	Total, AsOf, Values, Run, Page, Of, NoRows, Yes, No, None, Detail, Identity, Times, Before, Contents, Others string
}

// words by language. A language that is not here writes English.
var words = map[string]Words{
	"en": {
		"Total", "As of", "Values", "Run", "Page", "of", "No rows.", "yes", "no", "none", "detail", "Read as",
		"Times are in", "before", "Contents", "others",
	},
	"de": {
		"Summe", "Stand", "Werte", "Lauf", "Seite", "von", "Keine Zeilen.", "ja", "nein", "keine", "Einzelheiten",
		"Gelesen als", "Zeiten in", "vorher", "Inhalt", "übrige",
	},
	"fr": {
		"Total", "Situation au", "Valeurs", "Exécution", "Page", "sur", "Aucune ligne.", "oui", "non", "aucune",
		"détail", "Lu en tant que", "Heures en", "avant", "Sommaire", "autres",
	},
	"es": {
		"Total", "Datos a", "Valores", "Ejecución", "Página", "de", "Sin filas.", "sí", "no", "ninguno", "detalle",
		"Leído como", "Horas en", "antes", "Índice", "otros",
	},
	"it": {
		"Totale", "Situazione al", "Valori", "Esecuzione", "Pagina", "di", "Nessuna riga.", "sì", "no", "nessuno",
		"dettaglio", "Letto come", "Orari in", "prima", "Indice", "altri",
	},
	"nl": {
		"Totaal", "Stand van", "Waarden", "Uitvoering", "Pagina", "van", "Geen rijen.", "ja", "nee", "geen",
		"details", "Gelezen als", "Tijden in", "eerder", "Inhoud", "overige",
	},
	"da": {
		"I alt", "Pr.", "Værdier", "Kørsel", "Side", "af", "Ingen rækker.", "ja", "nej", "ingen", "detaljer",
		"Læst som", "Tider i", "før", "Indhold", "øvrige",
	},
	"sv": {
		"Summa", "Per", "Värden", "Körning", "Sida", "av", "Inga rader.", "ja", "nej", "inget", "detaljer",
		"Läst som", "Tider i", "tidigare", "Innehåll", "övriga",
	},
	"nb": {
		"Sum", "Per", "Verdier", "Kjøring", "Side", "av", "Ingen rader.", "ja", "nei", "ingen", "detaljer",
		"Lest som", "Tider i", "før", "Innhold", "øvrige",
	},
	"fi": {
		"Yhteensä", "Tilanne", "Arvot", "Ajo", "Sivu", "/", "Ei rivejä.", "kyllä", "ei", "ei mitään", "erittely",
		"Lukijana", "Ajat:", "ennen", "Sisällys", "muut",
	},
	"pl": {
		"Razem", "Stan na", "Wartości", "Przebieg", "Strona", "z", "Brak wierszy.", "tak", "nie", "brak",
		"szczegóły", "Odczytano jako", "Czas:", "poprzednio", "Spis treści", "pozostałe",
	},
	"pt": {
		"Total", "Posição em", "Valores", "Execução", "Página", "de", "Sem linhas.", "sim", "não", "nenhum",
		"detalhe", "Lido como", "Horas em", "antes", "Índice", "outros",
	},
	"cs": {
		"Celkem", "Stav k", "Hodnoty", "Běh", "Strana", "z", "Žádné řádky.", "ano", "ne", "žádná", "podrobnosti",
		"Čteno jako", "Časy:", "dříve", "Obsah", "ostatní",
	},
	"el": {
		"Σύνολο", "Στοιχεία", "Τιμές", "Εκτέλεση", "Σελίδα", "από", "Καμία γραμμή.", "ναι", "όχι", "καμία",
		"λεπτομέρειες", "Ανάγνωση ως", "Ώρες:", "πριν", "Περιεχόμενα", "λοιπά",
	},
}
