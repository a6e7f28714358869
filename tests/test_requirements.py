"""Reading ``requirements.txt``: text in, values out."""

from __future__ import annotations

import string

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plainfall.ecosystems.python.lists.requirements import parse_requirements, read_requirements
from plainfall.errors import BadInput

SHA = "a" * 64
NAMES = st.text(string.ascii_lowercase, min_size=1, max_size=8)
VERSIONS = st.from_regex(r"[1-9]?[0-9](\.[1-9]?[0-9]){0,2}", fullmatch=True)


def test_continuations_comments_hashes_and_markers() -> None:
    listed = parse_requirements(
        "\ufeff# pins\n\ngaugekit==1.0 ; python_version >= '3.8' \\\n"
        f"    --hash=sha256:{SHA} \\\n    --hash=sha512:{'b' * 128}  # two\n"
        "other-kit [fast] == 2.* # no hash\n"
    )
    first, second = listed.lines
    assert (first.name, first.pinned, first.evidence.line) == ("gaugekit", "1.0", 3)
    assert first.hashes == {"sha256": frozenset([SHA]), "sha512": frozenset(["b" * 128])}
    assert first.requirement is not None and str(first.requirement.marker) == 'python_version >= "3.8"'
    assert second.pinned is None and second.requirement and second.requirement.extras == {"fast"}
    assert second.evidence.line == 6


def test_options_of_all_spellings() -> None:
    listed = parse_requirements(
        "--index-url https://registry.example/simple\n-f ./wheels\n--extra-index-url=https://b.example\n"
        "--trusted-host b.example\n--require-hashes\n--pre\n--no-index\n-i'https://c.example'\n"
    )
    options = listed.options
    assert options.index is not None and options.index[0] == "https://c.example"
    assert options.links[0][0] == "./wheels" and options.extra[0][1].line == 3
    assert options.no_index and "trusted" not in str(options)  # a clone does not decide whom to trust
    assert listed.require_hashes and listed.prereleases


def test_includes_and_constraints_with_their_own_lines() -> None:
    files = {
        "requirements/dev.txt": "-r base.txt\n-c ../limits.txt\ncheckkit==3\n",
        "requirements/base.txt": "gaugekit==1.0\n",
        "limits.txt": "gaugekit<2\n",
    }
    listed = read_requirements("requirements/dev.txt", files.__getitem__, {})
    assert [line.evidence.path for line in listed.lines] == ["requirements/base.txt", "requirements/dev.txt"]
    assert [str(line.evidence) for line in listed.constraints] == ["limits.txt:1"]
    assert listed.files == ("requirements/dev.txt", "requirements/base.txt", "limits.txt")


def test_variables_are_put_into_addresses_at_hosts_that_the_person_allowed() -> None:
    text = "--index-url https://${TOKEN}@registry.example\n"
    withheld = parse_requirements(text, variables={"TOKEN": "x"})
    assert withheld.options.index is not None and "${TOKEN}" in withheld.options.index[0]
    [one] = withheld.withheld
    assert one.host == "registry.example" and one.names == ("TOKEN",) and one.evidence.line == 1
    listed = parse_requirements(text, variables={"TOKEN": "x"}, hosts=frozenset({"registry.example"}))
    assert listed.options.index is not None and listed.options.index[0] == "https://x@registry.example"


@pytest.mark.parametrize(
    "line", ["./kit", "kit-1.0.whl", "https://a.example/k.tar.gz", "kit @ file:///k.whl"]
)
def test_direct_references_are_told_apart(line: str) -> None:
    [parsed] = parse_requirements(line).lines
    assert parsed.reference is not None and not parsed.editable
    [editable] = parse_requirements(f"-e {line}").lines
    assert editable.editable


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("gaugekit==1.0\n==2\n", "requirements.txt:2: '==2' is no requirement"),
        ("gaugekit==1.0 --hash=sha256:abc\n", "is no hash"),
        ("gaugekit==1.0 --hash=crc32:abc\n", "is no hash"),
        ("--unheard-of x\n", "is not known here"),
        ("-r\n", "wants a value"),
        ("gaugekit ; python_version >\n", "is no requirement"),
        ("-r ../../outside.txt\n", "outside the clone"),
        ("-r requirements.txt\n", "in a circle: requirements.txt → requirements.txt"),
    ],
)
def test_bad_lines_are_named(text: str, said: str) -> None:
    with pytest.raises(BadInput) as caught:
        parse_requirements(text)
    assert said in str(caught.value) and caught.value.place is not None


@given(st.dictionaries(NAMES, VERSIONS, max_size=8), st.booleans(), st.sampled_from(["\n", "\r\n"]))
def test_any_list_of_pins_is_read_back(pins: dict[str, str], continued: bool, ending: str) -> None:
    joint = f" \\{ending}    " if continued else " "
    text = "".join(f"{n}=={v}{joint}--hash=sha256:{SHA}{ending}# between{ending}" for n, v in pins.items())
    listed = parse_requirements(text)
    assert {line.name: line.pinned for line in listed.lines} == pins
    assert all(line.hashes == {"sha256": frozenset([SHA])} for line in listed.lines)
