"""What each earlier version of a bundle's content lacked: one step from each to the next."""

from __future__ import annotations

import uuid
from typing import Any


def _from_version_1(content: dict[str, Any]) -> dict[str, Any]:
    """Version 1 had one line of calibration in a meter, one state of a rig, all tests in all rules
    and weights only.
    """
    round = {
        "motors": 1,
        "own_parts": False,
        "orientation": "",
        "equal": "throttle",
        "equal_value": None,
        "envelope": {},
        "entries_until": None,
    }
    known = {
        "serial": "",
        "low": None,
        "high": None,
        "response_time": None,
        "recalibrate_after": None,
    }
    test = {
        "soak": "none",
        "soak_minutes": None,
        "baseline": 1.0,
        "dropped": False,
        "replaces": None,
    }
    rigs_of_tests = {row["key"]: row["rig"] for row in content["tests"]}
    return content | {
        "round": round | content["round"],
        "instruments": [
            known | row | {"calibrations": _calibration_of_version_1(row)}
            for row in content["instruments"]
        ],
        "rigs": [
            {
                "since": content["round"]["created_at"],
                "change": "",
                "previous": None,
                "calibrations": [],
            }
            | row
            for row in content["rigs"]
        ],
        "tests": [test | row for row in content["tests"]],
        "rules": [
            row
            | {
                "brief": {},
                "questions": [],
                "tests": list(rigs_of_tests),
                "terms": [
                    {"test": key, "weight": weight, "most_loss": None}
                    for key, weight in row["terms"].items()
                ],
            }
            for row in content["rules"]
        ],
        "runs": [
            {"hours": 0.0, "carried_from": None, "rig": rigs_of_tests[row["test"]]} | row
            for row in content["runs"]
        ],
    }


def _calibration_of_version_1(row: dict[str, Any]) -> list[dict[str, Any]]:
    if (
        row["calibrated_on"] is None
        and row["slope"] == 1
        and not row["offset"]
        and not row["slope_u"]
    ):
        return []
    uid = str(uuid.uuid5(uuid.NAMESPACE_URL, f"calibration of {row['uid']}"))
    line = {name: row[name] for name in ("slope", "offset", "slope_u")}
    return [
        {
            "uid": uid,
            "at": row["calibrated_on"] or "2000-01-01",
            "standard": "",
            "standard_u": 0.0,
            "points": [],
            "centre": 0.0,
            "level_u": 0.0,
            "dof": None,
            "replaces_limit": False,
            "note": "Line as it was known; its points were not kept.",
            "withdrawn": "",
            **line,
        }
    ]


def _from_version_2(content: dict[str, Any]) -> dict[str, Any]:
    """Version 2 had no files and no predictions of versions; those that were on the bench are
    sealed from their first run on.
    """
    first: dict[str, str] = {}
    for run in content["runs"]:
        if run["specimen"] and run["started_at"] < first.get(run["specimen"], "~"):
            first[run["specimen"]] = run["started_at"]

    def grown(version: dict[str, Any]) -> dict[str, Any]:
        runs = [first[s["uid"]] for s in version["specimens"] if s["uid"] in first]
        return {"files": [], "predictions": [], "sealed_at": min(runs, default=None), **version}

    return content | {
        "entries": [
            entry | {"versions": [grown(v) for v in entry["versions"]]}
            for entry in content["entries"]
        ]
    }


def _from_version_3(content: dict[str, Any]) -> dict[str, Any]:
    """Version 3 had no bills, steps, materials and nothing of the workshop but specimens."""
    later = {
        "layer": 0.0002,
        "line": 0.00045,
        "walls": 3,
        "infill": 0.25,
        "cap": None,
        "due": None,
        "printed_in": None,
    }
    lists: dict[str, Any] = {
        "prints": [],
        "steps": [],
        "measures": [],
        "balances": [],
        "gates": [],
    }

    def grown(version: dict[str, Any]) -> dict[str, Any]:
        files = [{"place": "", "count": 1, "unit": "", "axis": ""} | f for f in version["files"]]
        specimens = [
            later | {"since": version["created_at"]} | lists | s for s in version["specimens"]
        ]
        return {
            "why": "",
            "material": None,
            "bill": [],
            "steps": [],
            **version,
            "files": files,
            "specimens": specimens,
        }

    entries = [
        entry | {"versions": [grown(v) for v in entry["versions"]]} for entry in content["entries"]
    ]
    return {"materials": [], **content, "entries": entries}


def _from_version_4(content: dict[str, Any]) -> dict[str, Any]:
    """Version 4 had no windows of readings, no curves, and nothing that people left out or saw."""
    runs = [
        {"windows": [], "beside": {}, "exclusions": [], "observations": [], "picture": None}
        | run
        | {"result": {"curve": None, "troubles": []} | run["result"] if run["result"] else None}
        for run in content["runs"]
    ]
    recordings = [
        {"shift": 0.0, "shift_note": "", "beside": None, "observations": []} | row
        for row in content["recordings"]
    ]
    return content | {"runs": runs, "recordings": recordings}


def _from_version_5(content: dict[str, Any]) -> dict[str, Any]:
    """Version 5 did not say which reference is run beside the one in use: of a test's open ones,
    all but the first.
    """

    def bridged(test: dict[str, Any]) -> dict[str, Any]:
        open_ones = sorted(row["since"] for row in test["references"] if row["until"] is None)
        first = open_ones[0] if open_ones else ""
        rows, taken = [], False
        for row in test["references"]:
            in_use = row["until"] is None and row["since"] == first and not taken
            taken = taken or in_use
            rows.append({"bridging": row["until"] is None and not in_use} | row)
        return test | {"references": rows}

    return content | {
        "tests": [bridged(row) for row in content["tests"]],
        "instruments": [{"retired": False} | row for row in content["instruments"]],
        "materials": [{"retired": False} | row for row in content["materials"]],
    }


def _from_version_6(content: dict[str, Any]) -> dict[str, Any]:
    """Version 6 did not say how often a live recording has rows."""
    return content | {"recordings": [{"rate": None} | row for row in content["recordings"]]}


def _from_version_7(content: dict[str, Any]) -> dict[str, Any]:
    """Version 7 did not say how stiff a material is."""
    materials = [{"stiffness": USUAL_STIFFNESS} | row for row in content["materials"]]
    return content | {"materials": materials}


def _from_version_8(content: dict[str, Any]) -> dict[str, Any]:
    """Version 8 named no version to take part, and did not tell figures as they were read."""
    entries = [
        row | {"versions": [{"named": False} | one for one in row["versions"]]}
        for row in content["entries"]
    ]
    runs = [
        row | {"result": {"as_read": None} | row["result"]} if row["result"] else row
        for row in content["runs"]
    ]
    return content | {"entries": entries, "runs": runs}


def _from_version_9(content: dict[str, Any]) -> dict[str, Any]:
    """Version 9 took no recording out."""
    recordings = [{"set_aside_at": None} | row for row in content["recordings"]]
    return content | {"recordings": recordings}


def _from_version_10(content: dict[str, Any]) -> dict[str, Any]:
    """Version 10 knew no quick comparisons."""
    return content | {"round": {"quick": False} | content.get("round", {})}


def _from_version_11(content: dict[str, Any]) -> dict[str, Any]:
    """Version 11 knew no figures of one's own, and as many outlets on each part."""
    entries = [
        row | {"versions": [{"outlets": None} | version for version in row["versions"]]}
        for row in content["entries"]
    ]
    tests = [{"own": None, "taking": "mean"} | row for row in content["tests"]]
    return content | {"tests": tests, "entries": entries}


def _from_version_12(content: dict[str, Any]) -> dict[str, Any]:
    """Version 12 knew no sound recordings, and left waveforms of meters behind."""
    recordings = [{"waveforms": []} | row for row in content["recordings"]]
    return content | {"recordings": recordings, "sounds": []}


def _from_version_13(content: dict[str, Any]) -> dict[str, Any]:
    """Version 13 knew no reference that is a print, with a limit of speed, and left behind what people
    judged: panels, listening, guesses, limits, decisions.
    """
    rows = [{"cap": None} | row for row in content.get("reference_specimens", [])]
    entries = [
        row | {"versions": [{"decisions": []} | version for version in row["versions"]]}
        for row in content["entries"]
    ]
    judged: dict[str, Any] = {
        "criteria": [],
        "scenarios": [],
        "guesses": None,
        "sittings": [],
        "listenings": [],
    }
    return judged | content | {"reference_specimens": rows, "entries": entries}


USUAL_STIFFNESS = 2.0e9
"""Young's modulus of most printed plastics [Pa]."""

STEPS = {
    1: _from_version_1,
    2: _from_version_2,
    3: _from_version_3,
    4: _from_version_4,
    5: _from_version_5,
    6: _from_version_6,
    7: _from_version_7,
    8: _from_version_8,
    9: _from_version_9,
    10: _from_version_10,
    11: _from_version_11,
    12: _from_version_12,
    13: _from_version_13,
}
"""Version -> what makes its content one of the next version."""
