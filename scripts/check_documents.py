"""Checks PDFs by PDF/UA-1 (ISO 14289-1, two checkers) and PDF/A-3a (ISO 19005-3).

    check_documents.py FOLDER

Prints each finding that is not known to be false, and ends with 1 if there are any.
"""

import json
import re
import subprocess
import sys
from collections import Counter
from pathlib import Path

import page

# Reports with a page that a browser has printed into its own PDF, which is neither tagged nor archivable:
# they claim no standard, and are not held to one.
CLAIM_NOTHING = {"harbours.weekly"}


def in_margin(finding, _):
    """Whether it is about the running head or foot alone, a line at either end of an A4 page."""
    return all(box["y0"] > 800 or box["y1"] < 45 for box in finding["boxes"])


def is_named_like_a_host(finding, _):
    """Whether a heading is words and numbers with a hyphen, as machines are called."""
    return re.fullmatch(r"[a-z]+(-[a-z0-9]+)+", finding["evidence"]) is not None


def is_cut_short(finding, _):
    """Whether an address is cut short, as the texts of queries are in the provenance: it leads nowhere."""
    return finding["evidence"].endswith("…")


def is_whole(_, path):
    """Whether qpdf, too, finds that all streams are as long as they say."""
    answer = subprocess.run(["qpdf", "--check", str(path)], capture_output=True, text=True)
    return answer.returncode == 0


# Findings that are no faults: (checker, rule), when, and why.
KNOWN = {
    ("PDF/UA-1 by outloud", "FIG-012"): (
        lambda *_: True,
        "a guess by how many signs are letters; descriptions of charts are sentences full of figures",
    ),
    ("PDF/UA-1 by outloud", "TAG-002"): (
        in_margin,
        "running heads and feet are artifacts (ISO 14289-1, 7.8), also where they read like a sentence",
    ),
    ("PDF/UA-1 by outloud", "HDG-010"): (
        is_named_like_a_host,
        "machines have such names, and a block about one is headed by it",
    ),
    ("PDF/UA-1 by outloud", "LNK-010"): (
        is_cut_short,
        "the text of a query in the provenance, cut short: it is no address to go to",
    ),
    ("PDF/A-3a by page-validation", "PDFA3A-STREAM-LENGTH-001"): (
        is_whole,
        "packed data may end with a sign that ends lines, which this checker counts as none of it; qpdf finds the length right",
    ),
}


def by_page(path, profile):
    """What page-validation finds, as rules with their words."""
    report = page.validate_pdf_bytes(path.read_bytes(), profile=profile)
    return [(one.rule_id, one.message, None) for one in report.failures]


def by_outloud(path):
    """What outloud finds, as rules with their words."""
    command = [str(Path(sys.executable).with_name("outloud")), "--json", "-", "--fail-on", "never", str(path)]
    answer = subprocess.run(command, capture_output=True, text=True)
    if answer.returncode:
        raise SystemExit(f"{path.name}: outloud failed: {answer.stderr.strip()}")
    (result,) = json.loads(answer.stdout)["results"]
    if result["error"]:
        raise SystemExit(f"{path.name}: outloud could not read it: {result['error']}")
    return [(one["rule"], one["message"], one) for one in result["findings"] if one["severity"] != "info"]


def check(paths):
    """Prints what each checker finds; answers whether there was anything."""
    checkers = {
        "PDF/UA-1 by page-validation": lambda path: by_page(path, "ua1"),
        "PDF/UA-1 by outloud": by_outloud,
        "PDF/A-3a by page-validation": lambda path: by_page(path, "3a"),
    }
    wrong = False
    for name, find in checkers.items():
        known, found = Counter(), 0
        for path in paths:
            for rule, words, finding in find(path):
                is_known, _ = KNOWN.get((name, rule), (lambda *_: False, ""))
                if is_known(finding, path):
                    known[rule] += 1
                    continue
                found += 1
                print(f"{path.name}: {name}: {rule}: {words}")
        wrong = wrong or found > 0
        print(f"{name}: {len(paths)} documents, {found} findings")
        for rule, count in sorted(known.items()):
            print(f"  known to be false, {count} times: {rule}: {KNOWN[name, rule][1]}")
    return wrong


def main(folder):
    paths = sorted(Path(folder).rglob("*.pdf"))
    if not paths:
        raise SystemExit(f"there are no PDFs in {folder}")
    silent = [path for path in paths if b"pdfuaid" not in path.read_bytes()]
    print("Claim no standard: " + ", ".join(path.name for path in silent))
    unexpected = [path.name for path in silent if path.name.split("_")[0] not in CLAIM_NOTHING]
    if unexpected:
        print("error: these should claim PDF/UA-1 and PDF/A-3a: " + ", ".join(unexpected))
    return int(check([path for path in paths if path not in silent]) or bool(unexpected))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
