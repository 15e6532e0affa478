"""Clips found in plain words of eleven languages.

A phrase is read with each language's words at once: as they stand, by their stems (`snowballstemmer`), by pairs of letters, and
across slips (`rapidfuzz`). The language that explains it best counts most. What it comes to are concepts; clips that are what was
asked for come before those that are done so.
"""

from __future__ import annotations

import math
import re
import unicodedata
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import snowballstemmer
from rapidfuzz import fuzz, process

from pegloom.core.errors import PegLoomError
from pegloom.core.motion.shelf.card import KINDS, ClipCard
from pegloom.core.motion.shelf.measures import unlike

LANGUAGES: Mapping[str, str] = {
    "en": "english", "de": "german", "fr": "french", "es": "spanish", "it": "italian", "pt": "portuguese", "pl": "polish", "tr": "turkish", "ja": "", "ko": "", "zh": "",
}  # fmt: skip
"""Languages by their codes, with the stemmer each has."""
_SMALL: Mapping[str, str] = {
    "en": "a an the is are be was someone somebody person man woman boy girl he she it they who that with and of to on in at his her their from for by over into out off as like very one me my i you your this while some has have had does doesn do don t it its them along",
    "de": "ein eine einen einem einer der die das den dem des ist sind jemand person mann frau junge er sie es wer mit und von zu zum zur auf in im an am sein seine ihr ihre aus fur bei uber nach vom wie sehr ich mein dieser wahrend sich einander",
    "fr": "un une le la les l d de du des est sont quelqu personne homme femme garcon fille il elle on qui que avec et en dans a au aux sur son sa ses pour par vers comme tres je mon ce cette pendant se s",
    "es": "un una el la los las de del es son esta alguien persona hombre mujer nino nina que con y en a al su sus por para hacia como muy yo mi este mientras se lo",
    "it": "un una uno il lo la i gli le l di del della e sono qualcuno persona uomo donna ragazzo che con ed in a al alla nel nella sul sulla suo sua per da dal verso come molto io mio questo mentre si ad",
    "pt": "um uma o os as de do da dos das e sao alguem pessoa homem mulher menino que com em no na ao pelo seu sua por para como muito eu meu este enquanto se",
    "pl": "ktos osoba czlowiek mezczyzna kobieta chlopiec on ona ktory ktora z ze i w we na do od po przez za jak bardzo swoj moj ten podczas sie pod nad o u jest",
    "tr": "bir birisi biri kisi adam kadin cocuk o ve ile icin gibi cok benim bu su da de mi olarak kadar dogru",
    }  # fmt: skip
SMALL: Mapping[str, frozenset[str]] = {code: frozenset(_SMALL.get(code, "").split()) for code in LANGUAGES}
"""Words that tell a language and nothing else."""
LATIN = {"ł": "l", "ø": "o", "ß": "ss", "ı": "i", "đ": "d", "æ": "ae", "œ": "oe"}
FUZZY, PAIRS = 84.0, 0.62
"""Likeness from which on a word counts as a slip of another, and share of letter pairs from which on as related."""
LEAST = 0.12
ASKED = 64
"""Phrases whose meaning is kept."""
GAP = 2
"""Other words that may stand between two of a phrase."""
PLACES: Mapping[str, str] = {"animal": "four legs", "bird": "bird", "puppet": "cut-out", "prop": "prop"}
"""Concepts that say on which body a clip is."""


def plain(text: str) -> str:
    """A text in small letters without accents; letters of other scripts stay."""
    found = []
    for letter in unicodedata.normalize("NFKC", text).casefold():
        told = LATIN.get(letter, letter)
        if ord(letter) < 0x370:
            told = "".join(c for c in unicodedata.normalize("NFD", told) if not unicodedata.combining(c))
        elif unicodedata.combining(letter) and ord(letter) < 0x3000:
            told = ""
        found.append(told)
    return "".join(found)


def words_of(text: str) -> list[str]:
    return re.findall(r"[^\W_]+", plain(text))


def _pairs(word: str) -> set[str]:
    return {word[k : k + 2] for k in range(len(word) - 1)}


def _slip(letters: int) -> float:
    """The likeness from which on a word of so many letters is a slip of another: short words have many neighbours."""
    return FUZZY if letters >= 7 else FUZZY + 3.0


@dataclass
class _Language:
    """One language's words. whole : word -> concepts; open_ : beginnings of words; phrases : several words in a row, each
    perhaps open; anywhere : for scripts without spaces."""

    code: str
    whole: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set))
    open_: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set))
    phrases: list[tuple[tuple[tuple[str, bool], ...], str]] = field(default_factory=list)
    anywhere: list[tuple[str, str]] = field(default_factory=list)
    known: dict[str, list[tuple[str, float]]] = field(default_factory=dict)

    @cached_property
    def stemmer(self) -> Any:
        return snowballstemmer.stemmer(LANGUAGES[self.code]) if LANGUAGES[self.code] else None

    @cached_property
    def stems(self) -> dict[str, set[str]]:
        found: dict[str, set[str]] = defaultdict(set)
        for word, concepts in self.whole.items():
            found[self.stemmer.stemWord(word)] |= concepts
        for word, concepts in self.open_.items():
            if len(word) >= 4:
                found[self.stemmer.stemWord(word)] |= concepts
        return found

    def same(self, token: str, word: str, open_: bool) -> bool:
        """Whether a word of a phrase is one that is known, in some form."""
        if token == word or (open_ and token.startswith(word)):
            return True
        return len(word) > 3 and token[:2] == word[:2] and bool(self.stemmer.stemWord(token) == self.stemmer.stemWord(word))

    def of(self, word: str) -> list[tuple[str, float]]:
        """Concepts a word may mean, with how surely."""
        if word not in self.known:
            self.known[word] = self._of(word)
        return self.known[word]

    def _of(self, word: str) -> list[tuple[str, float]]:
        found: dict[str, float] = {}

        def put(concepts: set[str], how: float) -> None:
            for concept in concepts:
                found[concept] = max(found.get(concept, 0.0), how)

        put(self.whole.get(word, set()), 1.0)
        for length in range(2, len(word) + 1):
            some = self.open_.get(word[:length])
            if some:
                # A beginning of two letters says little.
                put(some, 0.96 if length >= 4 or length == len(word) else (0.75 if length == 3 and len(word) <= 6 else 0.45))
        if self.stemmer is not None and len(word) >= 4:
            put(self.stems.get(self.stemmer.stemWord(word), set()), 0.92)
        if found and max(found.values()) >= 0.7:
            best = max(found.values())
            return [(c, h) for c, h in found.items() if h >= 0.75 * best]
        if len(word) >= 4:
            for other, score, _ in process.extract(word, self.whole.keys(), scorer=fuzz.ratio, score_cutoff=_slip(len(word)), limit=3):
                put(self.whole[other], 0.7 * score / 100.0)
            for start, concepts in self.open_.items():
                if len(start) >= 5 and fuzz.ratio(word[: len(start)], start) >= _slip(len(start)) - 3.0:
                    put(concepts, 0.62)
            if not found:
                mine = _pairs(word)
                for other, concepts in (*self.whole.items(), *self.open_.items()):
                    theirs = _pairs(other)
                    if len(other) >= 4 and 2.0 * len(mine & theirs) / max(len(mine) + len(theirs), 1) >= PAIRS:
                        put(concepts, 0.5)
        return list(found.items())


@dataclass(frozen=True)
class Meant:
    """A concept a phrase asks for: how surely, and the words that say so."""

    concept: str
    how: float
    words: tuple[str, ...]


@dataclass(frozen=True)
class Found:
    """A clip that suits. score : 0 to 1. matched : words of the phrase and what they were taken for, as `müde = tired`."""

    card: ClipCard
    score: float
    matched: tuple[str, ...]


class Lexicon:
    """Read from a text: `[concept]`, then lines `en: word, word*, several words`. Raises PegLoomError for another one."""

    def __init__(self, text: str) -> None:
        self.languages = {code: _Language(code) for code in LANGUAGES}
        self.asked: dict[str, list[Meant]] = {}
        concept = ""
        for number, line in enumerate(text.splitlines(), 1):
            line = line.strip()
            if not line or line.startswith(("#", ">")):
                continue
            if line.startswith("["):
                concept = line.strip("[]")
                continue
            code, _, told = line.partition(":")
            if code not in self.languages or not concept:
                raise PegLoomError(f"the words of the shelf cannot be read: line {number}")
            self._put(self.languages[code], concept, told)

    def _put(self, language: _Language, concept: str, told: str) -> None:
        for entry in (e.strip() for e in told.split(",") if e.strip()):
            if not LANGUAGES[language.code]:
                language.anywhere.append((_letters(language.code, plain(entry)), concept))
                continue
            some = tuple((word.rstrip("*"), word.endswith("*")) for word in re.findall(r"[^\W_]+\*?", plain(entry)))
            if len(some) > 1:
                language.phrases.append((some, concept))
            elif some:
                word, open_ = some[0]
                (language.open_ if open_ else language.whole)[word].add(concept)
                if open_ and language.code == "tr" and len(word) >= 4 and word[-1] in "aeiou":
                    # A Turkish stem loses its last vowel before some endings.
                    language.open_[word[:-1]].add(concept)

    def meant(self, phrase: str) -> list[Meant]:
        """What a phrase asks for, the surest first; kept for the phrases asked last."""
        if phrase not in self.asked:
            while len(self.asked) >= ASKED:
                self.asked.pop(next(iter(self.asked)), None)
            self.asked[phrase] = self._meant(phrase)
        return self.asked[phrase]

    def _meant(self, phrase: str) -> list[Meant]:
        readings = {code: self._read(language, phrase) for code, language in self.languages.items()}
        best = max((total for total, _ in readings.values()), default=0.0)
        found: dict[str, tuple[float, set[str]]] = {}
        for total, concepts in readings.values():
            weight = (total / best) ** 5 if best > 0.0 else 0.0
            for concept, (how, words) in concepts.items():
                if how * weight > found.get(concept, (0.0, set()))[0]:
                    found[concept] = (how * weight, words)
        written = {plain(word): word for word in re.findall(r"[^\W_]+", unicodedata.normalize("NFC", phrase).lower())}

        def as_written(words: str) -> str:
            return " ".join(written.get(word, word) for word in words.split())

        told = [Meant(c, how, tuple(sorted(as_written(w) for w in words))) for c, (how, words) in found.items() if how >= LEAST]
        return sorted(told, key=lambda m: -m.how)

    def _read(self, language: _Language, phrase: str) -> tuple[float, dict[str, tuple[float, set[str]]]]:
        """How well a language explains a phrase, and the concepts it finds there."""
        concepts: dict[str, tuple[float, set[str]]] = {}

        def put(concept: str, how: float, word: str) -> None:
            held = concepts.get(concept, (0.0, set()))
            concepts[concept] = (max(held[0], how), held[1] | {word})

        text = plain(phrase)
        if not LANGUAGES[language.code]:
            text = _letters(language.code, text)
            letters = [k for k, c in enumerate(text) if ord(c) > 0x2E00 or 0x1100 <= ord(c) <= 0x11FF]
            if not letters:
                return 0.0, {}
            covered: set[int] = set()
            for entry, concept in sorted(language.anywhere, key=lambda e: -len(e[0])):
                at = text.find(entry)
                while at >= 0:
                    mine = set(range(at, at + len(entry)))
                    # Within a longer word that was found the shorter one is not meant.
                    inside = mine <= covered and not any(text[i : i + len(e)] == e for e, c in language.anywhere if c == concept and len(e) > len(entry) for i in mine)
                    short = len(unicodedata.normalize("NFC", entry)) == 1
                    if not (inside and short):
                        put(concept, 0.85 if short else 1.0, unicodedata.normalize("NFC", entry))
                        covered |= mine
                    at = text.find(entry, at + 1)
            own = sum(1 for c in text if _script(c) == language.code)
            return len(covered) / len(letters) + 0.6 * own / len(letters), concepts
        tokens = words_of(phrase)
        if not tokens:
            return 0.0, {}
        small = SMALL[language.code]
        taken: set[int] = set()
        total = 0.0
        for some, concept in language.phrases:
            for k in range(len(tokens) - len(some) + 1):
                row = _in_row(language, tokens, some, k)
                if row is not None:
                    # Words that stand apart, as a verb and its end may, say it a little less surely.
                    put(concept, 1.15 if row[-1] - k == len(some) - 1 else 0.95, " ".join(tokens[i] for i in row))
                    taken |= {i for i in row if tokens[i] not in small}
        total += 1.1 * len(taken)
        for k, token in enumerate(tokens):
            if token in small:
                total += 0.5
                if not language.whole.get(token):
                    continue
            meanings = language.of(token)
            best = max((how for _, how in meanings), default=0.0)
            if best >= 0.6 and k not in taken:
                # What barely looks alike speaks for no language.
                total += best
            for concept, how in meanings:
                put(concept, how * (0.6 if k in taken else 1.0), token)
        return total / len(tokens), concepts

    def concepts_in(self, words: Sequence[str]) -> frozenset[str]:
        """Concepts that English tags stand for."""
        found = set()
        for word in words:
            for concept, (how, _) in self._read(self.languages["en"], word)[1].items():
                if how >= 0.9:
                    found.add(concept)
        return frozenset(found)


def _in_row(language: _Language, tokens: Sequence[str], some: Sequence[tuple[str, bool]], first: int) -> list[int] | None:
    """Where the words of a phrase stand from a place on, in their order, at most GAP others between two; None where they do not."""
    at: list[int] = []
    k = first
    for word, open_ in some:
        last = k + (GAP if at else 0)
        while k < len(tokens) and k <= last and not language.same(tokens[k], word, open_):
            k += 1
        if k >= len(tokens) or k > last:
            return None
        at.append(k)
        k += 1
    return at


def _letters(code: str, text: str) -> str:
    """Korean syllables as their letters: endings grow into them."""
    return unicodedata.normalize("NFD", text) if code == "ko" else text


def _script(letter: str) -> str:
    code = ord(letter)
    if 0x3040 <= code <= 0x30FF:
        return "ja"
    if 0xAC00 <= code <= 0xD7AF or 0x1100 <= code <= 0x11FF:
        return "ko"
    return "zh" if 0x4E00 <= code <= 0x9FFF else ""


class Finder:
    """Finds among some cards."""

    def __init__(self, lexicon: Lexicon, cards: Sequence[ClipCard]) -> None:
        self.lexicon, self.cards = lexicon, tuple(cards)
        self.tags = {card.id: lexicon.concepts_in(card.tags) | lexicon.concepts_in([] if not card.own else [card.title]) for card in self.cards}
        count: dict[str, int] = defaultdict(int)
        for card in self.cards:
            for concept in self.tags[card.id] | set(card.kinds):
                count[concept] += 1
        whole = max(len(self.cards), 1)
        self.rare = {concept: math.log(1.0 + whole / (1.0 + n)) for concept, n in count.items()}

    def find(self, phrase: str, most: int = 20) -> list[Found]:
        """Clips that suit a phrase, the best first."""
        meant = self.lexicon.meant(phrase)
        titled = set(words_of(phrase))
        asked = {m.concept for m in meant if m.how >= 0.5}
        bodies = {PLACES[c] for c in asked if c in PLACES}
        worth = {m.concept: m.how * (3.0 if m.concept in KINDS else 2.0) * self.rare.get(m.concept, 1.0) for m in meant}
        whole = sum(worth.values())
        found = []
        for card in self.cards:
            got, matched = 0.0, []
            for m in meant:
                if m.concept in card.kinds:
                    # What it mainly is comes before what it is as well.
                    got += worth[m.concept] * (1.0 if m.concept == card.kinds[0] else 0.86)
                elif m.concept in self.tags[card.id]:
                    got += worth[m.concept] * (0.8 if m.concept in KINDS else 1.0)
                else:
                    continue
                matched += [f"{word} = {m.concept}" if word != m.concept else word for word in m.words]
            title = words_of(card.title)
            own = sum(1 for word in title if word in titled and len(word) > 3)
            if not got and not own:
                continue
            score = got / whole if whole else 0.0
            score *= self._suits(card, bodies)
            score += 0.04 * own / max(len(title), 1)
            # Of two that suit alike the plainer one.
            more = len(self.tags[card.id] - asked) + 1.5 * len(set(card.kinds) - asked)
            found.append(Found(card, min(score, 1.0) * (1.0 - 0.012 * min(more, 10)), tuple(dict.fromkeys(matched))))
        return sorted(found, key=lambda f: (-f.score, f.card.id))[:most]

    def _suits(self, card: ClipCard, bodies: set[str]) -> float:
        if bodies:
            return 1.0 if card.body in bodies else 0.55
        return 1.0 if card.body == "people" or card.own else 0.8

    def like(self, card_id: str, most: int = 20) -> list[Found]:
        """Clips that move alike, by measured qualities alone, the nearest first."""
        one = next((c for c in self.cards if c.id == card_id), None)
        if one is None:
            raise PegLoomError(f"the shelf has no clip {card_id[:40]}")
        some = [c for c in self.cards if c.measures is not None and c is not one]
        if one.measures is None or not some:
            return []
        far = unlike(one.measures, np.array([c.measures for c in some]))
        order = np.argsort(far, kind="stable")[:most]
        return [Found(some[k], float(1.0 / (1.0 + far[k])), ()) for k in order]
