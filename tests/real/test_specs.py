"""Kernel files by chance: those that the reference library lists are those that Kalyx takes for kernels, word for word."""

import json
import random
import subprocess
import sys

from tests.equipment import LONG, SEED

GOOD = {"argv": ["python3", "-m", "ipykernel_launcher", "-f", "{connection_file}"], "display_name": "Heath", "language": "python"}
# What may stand for a key; None leaves it out.
ODD = [None, "", "text", 3, 2.5, True, False, [], ["a"], ["a", 3], [["a"]], {}, {"a": "b"}, {"a": 1}, {"a": None}, {"a": {"b": "c"}}, [None], "signal", "SIGNAL", "message", "never",
       {"kernel_provisioner": {"provisioner_name": "local-provisioner"}}, {"kernel_provisioner": {"provisioner_name": "hive-provisioner"}}, {"kernel_provisioner": {}},
       {"kernel_provisioner": 3}, {"kernel_provisioner": {"provisioner_name": 3}}, {"debugger": True}, "\u00e9", "a\0b"]  # fmt: skip
KEYS = ["argv", "display_name", "language", "env", "interrupt_mode", "metadata", "mimetype", "name", "resource_dir", "codemirror_mode", "help_links"]
SAYS = ("import json\nfrom jupyter_client.kernelspec import KernelSpecManager\n"
        "print(json.dumps({name: one['spec'] for name, one in KernelSpecManager().get_all_specs().items()}))")  # fmt: skip


def spec(chance: random.Random) -> bytes:
    whole = dict(GOOD)
    for key in chance.sample(KEYS, chance.choice([0, 1, 1, 1, 2])):
        value = chance.choice(ODD)
        if value is None and chance.random() < 0.5:
            whole.pop(key, None)
        else:
            whole[key] = value
    raw = json.dumps(whole, ensure_ascii=chance.random() < 0.5).encode()
    kind = chance.randrange(16)
    if kind == 0:
        return b"\xef\xbb\xbf" + raw
    if kind == 1:
        return raw[: chance.randrange(len(raw))]
    if kind == 2:
        return chance.choice([b"", b"[]", b"null", b"3", b'"a"', b"{}", raw + b"x", raw + b"\n\n", b"\n" + raw, raw.replace(b'"', b"'"), raw.decode().encode("utf-16"), raw.replace(b"}", b",}"),
                              raw.replace(b"Heath", b"\xe9"), raw.replace(b'"language"', b'"argv"'), b"// a\n" + raw, raw.replace(b'"Heath"', b"NaN")])  # fmt: skip
    return raw


def dead_at_start(raw: bytes) -> bool:
    """The library lists what it cannot start: a command or variables of other things than texts. Kalyx says so at once."""
    try:
        whole = json.loads(raw.decode())
    except ValueError:
        return False
    if not isinstance(whole, dict):
        return False
    argv, env = whole.get("argv", []), whole.get("env", {})
    words = [argv] if isinstance(argv, str) else argv
    return (isinstance(words, list) and (not words or not all(isinstance(word, str) and "\0" not in word for word in words))
            or isinstance(env, dict) and not all(isinstance(value, str) for value in env.values()))  # fmt: skip


def test_what_the_reference_lists(moor, record_property):
    chance = random.Random(SEED)
    raws = {f"k{number}": spec(chance) for number in range(3000 if LONG else 300)}
    for name, raw in raws.items():
        moor.kernel(name, raw="")
        (moor.data / "kernels" / name / "kernel.json").write_bytes(raw)
    done = subprocess.run([sys.executable, "-c", SAYS], env=moor.variables, capture_output=True, text=True, check=True)
    theirs = json.loads(done.stdout)
    answer = moor.kalyx("kernels", "--seen-by", sys.executable, "--json").json
    ours = {kernel["id"]: kernel for kernel in answer["kernels"] if kernel["id"] in raws and "spec-unreadable" not in kernel["conditions"]}
    for name, raw in raws.items():
        if dead_at_start(raw):
            continue
        about = f"seed {SEED}: {raw!r}: the reference {'lists' if name in theirs else 'does not list'} it; {ours.get(name, {}).get('reason')}"
        assert (name in theirs) == (name in ours), about
        if name in theirs:
            assert ours[name]["argv"] == theirs[name]["argv"], about
            assert ours[name]["label"] == (theirs[name]["display_name"] or name), about
    record_property("kernel files compared", len(raws))
