"""The words of the game: lamps, boats, islands, keepers, letters. Plain data, nothing computed."""

LAMPS = (  # id, name, fuel, range in nautical miles, oil in litres a night
    ("harbour_1", "Harbour lamp", "tallow", 4, 0.8),
    ("harbour_2", "Customs quay", "tallow", 4, 0.9),
    ("mole_red", "Red mole", "colza", 6, 1.1),
    ("mole_green", "Green mole", "colza", 6, 1.1),
    ("gull_rock", "Gull Rock", "colza", 8, 1.6),
    ("drowned_tower", "Drowned Tower", "colza", 11, 2.4),
    ("fresnel_1", "First Fresnel", "paraffin", 14, 2.2),
    ("fresnel_2", "Second Fresnel", "paraffin", 15, 2.3),
    ("fresnel_3", "Third Fresnel", "paraffin", 9, 2.5),
    ("bell_reef", "Bell Reef", "gas", 10, 0.0),
    ("north_skerry", "North Skerry", "paraffin", 18, 3.4),
    ("old_light", "The Old Light", "driftwood", 3, 0.0),
)
LAMPS_2 = {"gull_rock": ("gull_rock", "Gull Rock", "colza", 9, 1.6)}  # those that version 2 of the game has instead
PASSWORD = "tallow & brine"  # of the winter post; it stands in READ ME.txt
FUELS = ("tallow", "colza", "paraffin", "gas", "driftwood")
ISLANDS = (
    ("kelpwick", "Kelpwick"),
    ("sallow_holm", "Sallow Holm"),
    ("the_pans", "The Pans"),
    ("north_skerry", "North Skerry"),
    ("gannet_stack", "Gannet Stack"),
)
BOATS = (  # id, name, kind, home island, load in barrels, length
    ("patience", "Patience", "punt", "kelpwick", 4, 20),
    ("grey_heron", "Grey Heron", "skiff", "kelpwick", 7, 26),
    ("second_wind", "Second Wind", "skiff", "sallow_holm", 8, 28),
    ("marrow", "Marrow", "barge", "the_pans", 40, 48),
    ("tide_tax", "Tide Tax", "cutter", "north_skerry", 16, 36),
)
KEEPERS = (  # id, name, mood, lamp
    ("ansa", "Ansa Tolk", "steady", "harbour_1"),
    ("bero", "Bero Quill", "restless", "gull_rock"),
    ("cade", "Cade Wether", "cheerful", "fresnel_1"),
    ("dunna", "Dunna Marl", "tired", "fresnel_3"),
    ("elvi", "Elvi Strand", "watchful", "north_skerry"),
    ("farro", "Farro Pell", "silent", "old_light"),
)
LANGUAGES = ("en", "de", "fr")
LETTERS = {
    "01-arrival": {
        "en": "To the new keeper of Kelpwick\n\nThe lamp room is dry and the stair is not. Count the barrels\nbefore you trust the book.\n\nYours, Ansa Tolk\n",  # noqa: E501
        "de": "An den neuen Wärter von Kelpwick\n\nDie Lampenstube ist trocken, die Treppe nicht. Zähle die Fässer,\nbevor du dem Buch glaubst.\n\nDeine Ansa Tolk\n",  # noqa: E501
        "fr": "Au nouveau gardien de Kelpwick\n\nLa chambre de la lampe est sèche, l'escalier non. Compte les barils\navant de croire le registre.\n\nAnsa Tolk\n",  # noqa: E501
    },
    "02-oil": {
        "en": "About the oil\n\nThe {boat} brings colza on the ebb. Paraffin costs more and sees further.\n",
        "de": "Vom Öl\n\nDie {boat} bringt Rüböl bei Ebbe. Paraffin kostet mehr und sieht weiter.\n",
        "fr": "De l'huile\n\nLe {boat} apporte du colza au jusant. Le pétrole coûte plus et voit plus loin.\n",
    },
    "03-storm": {
        "en": "After the storm\n\nGull Rock was dark for two hours. Nobody drowned. Write it down all the same.\n",
        "de": "Nach dem Sturm\n\nGull Rock war zwei Stunden dunkel. Niemand ertrank. Schreib es trotzdem auf.\n",
        "fr": "Après la tempête\n\nGull Rock est resté éteint deux heures. Aucun noyé. Note-le quand même.\n",
    },
    "04-skiff": {
        "en": "The skiff\n\nGrey Heron leaks at the third strake. Do not load her above seven barrels.\n",
        "de": "Das Boot\n\nDie Grey Heron leckt am dritten Gang. Lade nie mehr als sieben Fässer.\n",
        "fr": "La yole\n\nGrey Heron fait eau à la troisième virure. Jamais plus de sept barils.\n",
    },
    "05-winter": {
        "en": "Winter orders\n\nLight at four, trim at nine, again at two. Keep the bell rope dry.\n",
        "de": "Winterordnung\n\nUm vier anzünden, um neun und um zwei putzen. Das Glockenseil trocken halten.\n",
        "fr": "Ordres d'hiver\n\nAllumer à quatre heures, moucher à neuf et à deux. Garder la corde au sec.\n",
    },
}
MATERIALS = ("brass", "glass_clear", "oak_tarred", "canvas", "iron_rust", "copper_green", "rope_wet", "slate")
CALLS = {
    "ahoy": {"en": "Ahoy the light!\n", "de": "Ahoi, Leuchtturm!\n", "fr": "Ohé, du phare !\n"},
    "fog": {
        "en": "Ring, we cannot see you.\n",
        "de": "Läutet, wir sehen euch nicht.\n",
        "fr": "Sonnez, on ne vous voit pas.\n",
    },
    "oil": {"en": "Ten barrels, mind the step.\n", "de": "Zehn Fässer, Vorsicht Stufe.\n"},
}
SEASONS = ("spring", "summer", "autumn", "winter")
GOODS = ("colza", "paraffin", "tallow", "wick", "rope", "tar", "biscuit", "lens cloth", "brass polish", "tea")
LOG_LINES = (
    "Wind {wind}, sea {sea}. Lit at {hour}.",
    "Trimmed {lamp} twice; smoke on the glass.",
    "{boat} came in with {n} barrels.",
    "Fog from the north-west, bell rung {n} times.",
    "Nothing passed. Read the tide book.",
    "{boat} stayed out; lamp left high until {hour}.",
    "Counted {n} barrels, the book says one more.",
    "Glass {n} and falling.",
)
