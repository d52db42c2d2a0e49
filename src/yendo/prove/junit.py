"""A proof as JUnit XML, which every build server shows. Source: the format's common subset."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Sequence

from yendo.prove.proof import Proof


def encode(proofs: Sequence[Proof]) -> bytes:
    """One test suite a proof, one case a phase; what was executed nowhere is skipped, never passed."""
    root = ET.Element("testsuites")
    root.extend(_suite(proof) for proof in proofs)
    ET.indent(root)
    return bytes(ET.tostring(root, "utf-8", xml_declaration=True)) + b"\n"


def _suite(proof: Proof) -> ET.Element:
    failures = sum(phase.outcome == "failed" for phase in proof.phases)
    skipped = sum(phase.outcome == "not executed" for phase in proof.phases)
    suite = ET.Element(
        "testsuite",
        {
            "name": f"{proof.package} {proof.version} on {proof.label}, {proof.scenario}",
            "tests": str(len(proof.phases)),
            "failures": str(failures),
            "skipped": str(skipped),
            "errors": "0",
            "time": f"{proof.seconds:.3f}",
            "timestamp": proof.started,
        },
    )
    for phase in proof.phases:
        case = ET.SubElement(
            suite,
            "testcase",
            {
                "classname": f"{proof.package}.{proof.machine}.{proof.scenario}",
                "name": phase.title,
                "time": f"{phase.seconds:.3f}",
            },
        )
        if phase.outcome == "failed":
            ET.SubElement(
                case, "failure", {"message": f"expected {phase.expected}; found {phase.found}"}
            ).text = _clean("\n".join(filter(None, (phase.cause, phase.advice, *phase.details))))
        elif phase.outcome == "not executed":
            ET.SubElement(case, "skipped", {"message": _clean(phase.found)})
        ET.SubElement(case, "system-out").text = _clean(f"executed: {phase.place}; {phase.by}".rstrip("; "))
    return suite


def _clean(text: str) -> str:
    return "".join(character for character in text if character >= " " or character in "\n\t")
