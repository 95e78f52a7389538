"""What is found on the machines of the causes' examples, word for word (findings.txt): each alone, and with another's lines on it.

Nothing is started. ``KALYX_DRAW=1`` writes the file anew; read the difference then.
"""

from pathlib import Path

from kalyx.core.diagnosis import catalogue
from kalyx.core.model.records import Finding, KalyxError
from tests.core.test_causes import answer_of, examples
from tests.kept import differs
from tests.made import described

KEPT = Path(__file__).with_name("findings.txt")
# Of so many others each example gets the lines of one.
STRIDE = 7


def lines_of(finding: Finding) -> list[str]:
    """A finding as it is told: cause and certainty, what it says, its evidence, its fixes with their steps."""
    lines = [f"  {finding.cause} ({finding.certainty}): {finding.message}"]
    lines += [f"    {item.fact}  <{item.source}{'' if item.path in (None, item.source) else ' ' + str(item.path)}>" for item in finding.evidence]
    for fix in finding.fixes:
        lines.append(f"    {fix.state}: {fix.message}")
        lines += [f"      {step.line or step.message}" for step in fix.steps]
        lines += [f"      undo {fix.undo}"] if fix.undo else []
    return lines


def told(lines: list[str]) -> list[str]:
    try:
        return [text for finding in answer_of(lines) for text in lines_of(finding)] or ["  nothing"]
    except KalyxError as refused:
        return [f"  refused: {refused}"]


def machines() -> list[list[str]]:
    """The words of each example that can be made in memory, its question last; then each with another's words in front."""
    alone = [lines for cause in catalogue.ABOUT for lines in examples(cause) if described(lines)[1] is not None]
    beside = [alone[(number * STRIDE + 1) % len(alone)][:-1] + lines for number, lines in enumerate(alone)]
    return [list(words) for words in dict.fromkeys(map(tuple, alone + beside))]


def test_what_is_found():
    text = [line for words in machines() for line in ["; ".join(words), *told(words), ""]]
    assert not (found := differs(KEPT, "\n".join(text) + "\n")), found
