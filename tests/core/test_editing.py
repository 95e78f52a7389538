"""One value changed in a JSON text: every other byte stays, and the way back leads to the very same text."""

import json

from hypothesis import given, settings
from hypothesis import strategies as st

from kalyx.core.actions import pointing
from kalyx.core.formats.editing import apply
from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError, Kernel
from kalyx.core.system.live_reader import LiveReader

KEYS = st.text(st.characters(codec="utf-8"), max_size=6)
PLAIN = st.one_of(st.none(), st.booleans(), st.integers(-9, 9), st.text(st.characters(codec="utf-8"), max_size=9))
VALUES = st.recursive(
    PLAIN, lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(KEYS, inner, max_size=3))
)
SPEC = st.one_of(
    st.just(None), st.dictionaries(st.sampled_from(["name", "display_name", "language", "argv"]), st.text(max_size=5))
)
LAYOUT = st.sampled_from(
    [
        {"indent": 1},
        {"indent": 4},
        {"indent": "\t"},
        {},
        {"separators": (",", ":")},
        {"indent": 2, "ensure_ascii": False},
    ]
)
KERNEL = Kernel(key="", id="heath", label="Heide \u017e", folder="", argv=["x"], command=["x"])


@settings(max_examples=150, deadline=None)
@given(st.dictionaries(KEYS, VALUES, max_size=3), st.dictionaries(KEYS, VALUES, max_size=3), SPEC, LAYOUT,
       st.sampled_from(["\n", "\r\n"]), st.booleans(), st.booleans())  # fmt: skip
def test_only_the_kernel_changes(tmp_path_factory, top, more, spec, layout, ends, mark, last):
    folder = tmp_path_factory.mktemp("n")
    metadata = {**more, **({"kernelspec": spec} if spec is not None else {})}
    whole = (
        {**top, "metadata": metadata}
        if last
        else {"metadata": metadata, **{k: v for k, v in top.items() if k != "metadata"}}
    )
    text = json.dumps(whole, **layout).replace("\n", ends)
    raw = (("\ufeff" if mark else "") + text).encode("utf-8", "surrogatepass")
    path = folder / "spring.ipynb"
    path.write_bytes(raw)
    machine = Machine(LiveReader(variables={"HOME": str(folder)}, folder=str(folder)))
    plan = pointing.plan(machine, str(path), KERNEL)
    after = json.loads(plan.after.decode("utf-8-sig"))
    wanted = {"name": "heath", "display_name": KERNEL.label, "language": "python"}
    assert {key: after["metadata"]["kernelspec"][key] for key in wanted} == wanted
    expected = json.loads(text)
    expected["metadata"]["kernelspec"] = {**(spec or {}), **wanted}
    assert after == expected
    changed = len(plan.after) - len(raw)
    kept = sum(len(edit.text.encode()) for edit in plan.back)
    assert abs(changed) <= sum(edit.end - edit.start for edit in plan.back) * 4 + kept * 4
    back, _ = apply(plan.after.decode("utf-8"), plan.back)
    assert back.encode("utf-8") == raw
    if ends == "\r\n" and "\r\n" in text:
        assert b"\n" not in plan.after.replace(b"\r\n", b"") or layout.get("indent") is None


def test_what_is_no_notebook_is_not_touched(tmp_path):
    machine = Machine(LiveReader(variables={"HOME": str(tmp_path)}, folder=str(tmp_path)))
    (tmp_path / "link.ipynb").symlink_to("good.ipynb")
    cases = [(b"", "not a notebook"), (b"{", "not a notebook"), (b"[]", "not a notebook"), (b'{"metadata": 3}', "not a notebook"),
             (b'{"metadata": {"kernelspec": 3}}', "kernelspec"), (b"\xff\xfe{", "not UTF-8"), (b"{}", "metadata"),
             (b'{"metadata": {} x}', "not a notebook")]  # fmt: skip
    for raw, message in cases:
        path = tmp_path / "bad.ipynb"
        path.write_bytes(raw)
        machine.reader = machine.reader.again()
        try:
            pointing.plan(machine, str(path), KERNEL)
        except KalyxError as error:
            assert message in error.message, (raw, error.message)
        else:
            raise AssertionError(raw)
    (tmp_path / "good.ipynb").write_bytes(b'{"metadata": {}}')
    for name, message in [("link.ipynb", "is a link"), ("gone.ipynb", "there is nothing at this path")]:
        try:
            pointing.plan(machine, str(tmp_path / name), KERNEL)
        except KalyxError as error:
            assert message in error.message
        else:
            raise AssertionError(name)
    machine.reader = machine.reader.again()
    path = str(tmp_path / "good.ipynb")
    pointing.carry_out(machine, pointing.plan(machine, path, KERNEL))
    (tmp_path / "good.ipynb").write_bytes(b'{"metadata": {"mine": 1}}')
    machine.reader = machine.reader.again()
    try:
        pointing.plan_undo(machine, path)
    except KalyxError as error:
        assert "changed since" in error.message
    else:
        raise AssertionError("a change of the user's would have been lost")
