"""Names that somebody will try."""

HOSTILE = {
    "line break": "two\nlines",
    "carriage return": "two\rlines",
    "quotes": 'O\'Neil "the" man',
    "script": "<script>alert(1)</script>",
    "right to left": "abc\u202etxt.exe",
    "ten thousand characters": "x" * 10_000,
    "nul": "a\0b",
    "emoji": "🚢 harbour",
    "formula": "=cmd|' /C calc'!A0",
    "plus": "+1",
    "at": "@sum",
    "minus": "-1",
    "apostrophe": "'=1",
    "comma and semicolon": "a,b;c\td".replace("\t", " "),
    "slash": "a/b",
    "dots": "..",
    "percent": "%u %s {0} {{x}}",
    "combining": "e\u0301\u0301\u0301",
    "backslash": "DOMAIN\\name",
    "pipe": "a|b",
    "colon": "user:name",
    "blank": " ",
}
FAITHFUL = {
    "quotes", "script", "emoji", "formula", "plus", "at", "minus", "apostrophe", "comma and semicolon", "percent", "combining", "backslash"
}  # fmt: skip
