"""The blocks of characters that `\\p{IsNAME}` names (XSD 1.0 part 2, appendix F.1.1), by their names in lower
case.
"""

from __future__ import annotations

_TABLE = """
BasicLatin 0 7F|Latin-1Supplement 80 FF|LatinExtended-A 100 17F|LatinExtended-B 180 24F|IPAExtensions 250 2AF
SpacingModifierLetters 2B0 2FF|CombiningDiacriticalMarks 300 36F|Greek 370 3FF|GreekandCoptic 370 3FF
Cyrillic 400 4FF
CyrillicSupplement 500 52F|Armenian 530 58F|Hebrew 590 5FF|Arabic 600 6FF|Syriac 700 74F
ArabicSupplement 750 77F
Thaana 780 7BF|NKo 7C0 7FF|Devanagari 900 97F|Bengali 980 9FF|Gurmukhi A00 A7F|Gujarati A80 AFF|Oriya B00 B7F
Tamil B80 BFF|Telugu C00 C7F|Kannada C80 CFF|Malayalam D00 D7F|Sinhala D80 DFF|Thai E00 E7F|Lao E80 EFF
Tibetan F00 FFF|Myanmar 1000 109F|Georgian 10A0 10FF|HangulJamo 1100 11FF|Ethiopic 1200 137F
Cherokee 13A0 13FF
UnifiedCanadianAboriginalSyllabics 1400 167F|Ogham 1680 169F|Runic 16A0 16FF|Tagalog 1700 171F
Hanunoo 1720 173F
Buhid 1740 175F|Tagbanwa 1760 177F|Khmer 1780 17FF|Mongolian 1800 18AF|Limbu 1900 194F|TaiLe 1950 197F
KhmerSymbols 19E0 19FF|PhoneticExtensions 1D00 1D7F|LatinExtendedAdditional 1E00 1EFF|GreekExtended 1F00 1FFF
GeneralPunctuation 2000 206F|SuperscriptsandSubscripts 2070 209F|CurrencySymbols 20A0 20CF
CombiningMarksforSymbols 20D0 20FF|CombiningDiacriticalMarksforSymbols 20D0 20FF|LetterlikeSymbols 2100 214F
NumberForms 2150 218F|Arrows 2190 21FF|MathematicalOperators 2200 22FF|MiscellaneousTechnical 2300 23FF
ControlPictures 2400 243F|OpticalCharacterRecognition 2440 245F|EnclosedAlphanumerics 2460 24FF
BoxDrawing 2500 257F
BlockElements 2580 259F|GeometricShapes 25A0 25FF|MiscellaneousSymbols 2600 26FF|Dingbats 2700 27BF
MiscellaneousMathematicalSymbols-A 27C0 27EF|SupplementalArrows-A 27F0 27FF|BraillePatterns 2800 28FF
SupplementalArrows-B 2900 297F|MiscellaneousMathematicalSymbols-B 2980 29FF
SupplementalMathematicalOperators 2A00 2AFF
MiscellaneousSymbolsandArrows 2B00 2BFF|CJKRadicalsSupplement 2E80 2EFF|KangxiRadicals 2F00 2FDF
IdeographicDescriptionCharacters 2FF0 2FFF|CJKSymbolsandPunctuation 3000 303F|Hiragana 3040 309F
Katakana 30A0 30FF
Bopomofo 3100 312F|HangulCompatibilityJamo 3130 318F|Kanbun 3190 319F|BopomofoExtended 31A0 31BF
KatakanaPhoneticExtensions 31F0 31FF|EnclosedCJKLettersandMonths 3200 32FF|CJKCompatibility 3300 33FF
CJKUnifiedIdeographsExtensionA 3400 4DBF|YijingHexagramSymbols 4DC0 4DFF|CJKUnifiedIdeographs 4E00 9FFF
YiSyllables A000 A48F|YiRadicals A490 A4CF|HangulSyllables AC00 D7A3|HighSurrogates D800 DB7F
HighPrivateUseSurrogates DB80 DBFF|LowSurrogates DC00 DFFF|PrivateUse E000 F8FF|PrivateUseArea E000 F8FF
CJKCompatibilityIdeographs F900 FAFF|AlphabeticPresentationForms FB00 FB4F|ArabicPresentationForms-A FB50 FDFF
VariationSelectors FE00 FE0F|CombiningHalfMarks FE20 FE2F|CJKCompatibilityForms FE30 FE4F
SmallFormVariants FE50 FE6F
ArabicPresentationForms-B FE70 FEFF|HalfwidthandFullwidthForms FF00 FFEF|Specials FFF0 FFFD
OldItalic 10300 1032F
Gothic 10330 1034F|Deseret 10400 1044F|ByzantineMusicalSymbols 1D000 1D0FF|MusicalSymbols 1D100 1D1FF
MathematicalAlphanumericSymbols 1D400 1D7FF|CJKUnifiedIdeographsExtensionB 20000 2A6DF
CJKCompatibilityIdeographsSupplement 2F800 2FA1F|Tags E0000 E007F|SupplementaryPrivateUseArea-A F0000 FFFFD
SupplementaryPrivateUseArea-B 100000 10FFFD
"""

BLOCKS: dict[str, tuple[tuple[int, int], ...]] = {
    name.lower(): ((int(low, 16), int(high, 16)),)
    for name, low, high in (entry.split() for line in _TABLE.split("\n") if line for entry in line.split("|"))
}
