"""The requirement lines that recreate an environment, with the base Python in comments.

Lines follow PEP 508; where a distribution came from is read from the record
that installers leave of it (PEP 610). The comments at the head are plain words
that ``prepare --from`` and ``contrast`` read back.
"""

from __future__ import annotations

import json
import re

from msgspec.structs import replace

from kalyx.core.actions.record_reader import HEAD
from kalyx.core.imports import builtin
from kalyx.core.imports.sources import read_folder
from kalyx.core.invocation import NAMED, interpreter_of, search_of
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import RecordAnswer, RecordLine
from kalyx.core.model.records import Interpreter, KalyxError, Package, Seat
from kalyx.core.packages.contents import contents
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import asked_by, marker_environment
from kalyx.core.system import Reader
from kalyx.core.text.names import canonical, is_distribution_name, is_version
from kalyx.core.text.redaction import without_credentials
from kalyx.core.text.visible import visible

_OWN = ("own", "linked")


def record(machine: Machine, seat: Seat, *, used: str | None, everything: bool) -> RecordAnswer:
    """The lines that rebuild what the seat runs. Raises KalyxError where it runs nothing.

    ``used``: a folder whose code decides what is kept, with what that requires; ``everything``: packages from below
    and the user's own too.
    """
    interpreter = interpreter_of(seat, machine)
    search = search_of(seat, machine, NAMED)
    packages, unread = contents(machine.reader, interpreter, search)
    linked = [package.location for package in packages if package.origin == "linked"]
    records = {
        (distribution.site, canonical(distribution.name)): distribution
        for distribution in machine.installed(list(dict.fromkeys([*search.site_packages, *linked])))
    }
    answer = RecordAnswer(target=replace(seat, search_path=search.entries), text="", unread=unread)
    answer.left_out += [f"what is in {refusal.path}, which could not be read: {refusal.reason}" for refusal in unread]
    brought = _brought_along(machine.reader, interpreter)
    chosen = [package for package in packages if package.version is not None and package.hidden_by is None]
    chosen = [package for package in chosen if everything or package.origin in _OWN]
    if used is not None:
        chosen = _used(machine, interpreter, used, chosen, records, answer)
    for package in chosen:
        if package.installer == "conda-meta":
            answer.left_out.append(
                f"{package.name} {package.version} is kept by {package.location}, not by requirement lines"
            )
        elif brought.get(canonical(package.name)) == package.version and used is None:
            continue  # each new environment has it
        else:
            installed = records.get((package.location, canonical(package.name)))
            answer.lines.append(_line(machine, interpreter, package, installed, list(records.values())))
    for package in packages:
        if package.version is None and package.origin in _OWN and used is None:
            answer.left_out.append(f"{package.name} in {package.location} belongs to no distribution")
    answer.left_out += [
        f"{record_line.name}: {record_line.reason}" for record_line in answer.lines if record_line.kind == "development"
    ]
    answer.notes += [
        f"{record_line.name}: {record_line.reason}"
        for record_line in answer.lines
        if record_line.reason and record_line.kind != "development"
    ]
    for module in site_modules_in_use(machine):
        answer.notes.append(f"the site module {module} was loaded: what it brings is not in these lines")
    for evidence in search.unknown:
        answer.notes.append(
            f"not run, so not known what it adds: {evidence.fact[:80]} ({evidence.path or evidence.source})"
        )
    answer.text = _text(machine.reader, interpreter, seat, answer)
    return answer


def unrecorded(machine: Machine, seat: Seat) -> set[str]:
    """The canonical names of what the seat runs and no record can install: development installs."""
    lines = record(machine, seat, used=None, everything=True).lines
    return {canonical(line.name) for line in lines if line.kind == "development"}


def _brought_along(reader: Reader, interpreter: Interpreter) -> dict[str, str]:
    """The packages that each new environment of this Python gets, by the wheels in its own library."""
    names = reader.names(reader.join(interpreter.library, "ensurepip", "_bundled"))
    if interpreter.base_prefix == "/usr":
        names = reader.names("/usr/share/python-wheels")  # where Debian keeps them
    return {
        canonical(name.split("-")[0]): name.split("-")[1] for name in names if name.endswith(".whl") and "-" in name
    }


def site_modules_in_use(machine: Machine) -> list[str]:
    """The modules of a site's module system that this shell has loaded, by the variable that it sets."""
    loaded = machine.reader.variable("LOADEDMODULES") or ""
    return [part for part in loaded.split(":") if part]


def _line(
    machine: Machine, interpreter: Interpreter, package: Package, installed: Installed | None, all_here: list[Installed]
) -> RecordLine:
    """The line for one distribution: pinned, or where it came from."""
    version = package.version or ""
    direct = _direct(installed)
    if direct is not None and is_distribution_name(package.name):
        return _direct_line(machine, package, direct)
    if package.origin == "linked" and installed is not None and not installed.is_wheel:
        return RecordLine(
            name=package.name,
            version=version,
            line=f"# {package.name}: a development install in {installed.site}",
            kind="development",
            elsewhere=False,
            reason=f"a development install in {installed.site}",
        )
    if not is_distribution_name(package.name) or not is_version(version):
        reason = "its metadata gives a name or a version that the standards do not allow: a damaged or hostile record"
        shown = f"{visible(package.name)} {visible(version)}"
        return RecordLine(name=package.name, version=version, line=f"# {shown}: {reason}", kind="development",
                          elsewhere=False, reason=reason)  # fmt: skip
    sign = "==" if _is_plain(version) else "==="
    line = RecordLine(name=package.name, version=version, line=f"{package.name}{sign}{version}", kind="pinned")
    marker = _marker(machine, interpreter, package, all_here)
    if marker:
        line.line += f" ; {marker}"
    if "+" in version:
        line.reason = f"{version} is a build of its own, which the public index does not have"
        line.elsewhere = False
    return line


def _is_plain(version: str) -> bool:
    from packaging.version import InvalidVersion, Version

    try:
        Version(version)
    except InvalidVersion:
        return False
    return True


def _direct(installed: Installed | None) -> dict[str, object] | None:
    """Where a distribution came from, where it was not an index (PEP 610)."""
    if installed is None or not installed.is_wheel:
        return None
    text = installed.reader.text_or_none(installed.reader.join(installed.path, "direct_url.json"), 65536)
    try:
        result = json.loads(text) if text else None
    except ValueError:
        return None
    return result if isinstance(result, dict) and isinstance(result.get("url"), str) else None


def _direct_line(machine: Machine, package: Package, direct: dict[str, object]) -> RecordLine:
    url = without_credentials(str(direct["url"]))
    if re.search(r"[\s\x00-\x1f\x7f]", url) or not re.match(r"(https?|file|ssh|git)://", url):
        reason = "its metadata says it came from what is not an address: a damaged or hostile record"
        text = f"# {package.name}: {reason}"
        return RecordLine(name=package.name, version=package.version, line=text, kind="development", elsewhere=False,
                          reason=reason)  # fmt: skip
    about = direct.get("dir_info")
    if isinstance(about, dict) and about.get("editable"):
        reason = f"a development install of {url}, a folder of this machine"
        return RecordLine(
            name=package.name,
            version=package.version,
            line=f"# {package.name}: {reason}",
            kind="development",
            elsewhere=False,
            reason=reason,
        )
    source = direct.get("vcs_info")
    if isinstance(source, dict) and source.get("vcs") in ("git", "hg", "svn", "bzr"):
        commit = str(source.get("commit_id", ""))
        url = f"{source['vcs']}+{url}" + (f"@{commit}" if re.fullmatch(r"[A-Za-z0-9._-]+", commit) else "")
    archive = direct.get("archive_info")
    if isinstance(archive, dict) and re.fullmatch(r"[a-z0-9]+=[0-9a-f]+", str(archive.get("hash"))):
        url += "#" + str(archive["hash"])
    local, address = "+file:" in url, url.partition("+")[2] or url
    if local:
        url += f"#egg={package.name}"  # after an @ older installers take no address without a host
    inner = direct.get("subdirectory")
    if isinstance(inner, str) and re.fullmatch(r"[A-Za-z0-9_./-]+", inner):
        url += ("&" if "#" in url else "#") + f"subdirectory={inner}"
    line = RecordLine(
        name=package.name,
        version=package.version,
        line=f"{'' if local else package.name + ' @ '}{url}  # {package.version}",
        kind="direct",
    )
    if url.startswith("file:") or "+file:" in url:
        line.elsewhere, line.reason = False, f"it came from {address}, which only this machine has"
        if not isinstance(direct.get("dir_info"), dict) and source is None:
            # An index may have a file of this name and version; the path on this machine is of no use elsewhere.
            line.line, line.kind = f"{package.name}=={package.version}", "pinned"
            line.reason = f"it came from the file {url.split('#')[0].rpartition('/')[2]}, which an index may not have"
    return line


def _marker(machine: Machine, interpreter: Interpreter, package: Package, all_here: list[Installed]) -> str:
    """The condition that every distribution which requires this one gives; empty where one requires it always.

    A condition that is false on this machine is ignored: it did not install the distribution.
    """
    from packaging.requirements import InvalidRequirement, Requirement

    result: set[str] = set()
    here = marker_environment(interpreter, machine.reader.system)
    for distribution in all_here:
        for text in distribution.requires:
            if canonical(text.partition(";")[0].split("[")[0].split("(")[0].strip(" <>=!~0123456789.*,")) != canonical(
                package.name
            ):
                continue
            try:
                requirement = Requirement(text)
            except InvalidRequirement:
                continue
            if canonical(requirement.name) == canonical(package.name):
                message = str(requirement.marker) if requirement.marker is not None else ""
                if "extra" in message:
                    continue
                if requirement.marker is not None and not requirement.marker.evaluate({**here, "extra": ""}):
                    return ""
                result.add(message)
    return result.pop() if len(result) == 1 else ""


def _used(
    machine: Machine,
    interpreter: Interpreter,
    folder: str,
    packages: list[Package],
    records: dict[tuple[str, str], Installed],
    answer: RecordAnswer,
) -> list[Package]:
    """The packages whose modules the code of a folder imports, and what those require."""
    reader = machine.reader
    if not reader.is_folder(folder):
        raise KalyxError(f"{visible(folder)} is not a folder")
    by_module = {module: package for package in reversed(packages) for module in package.modules}
    reads = read_folder(reader, folder)
    answer.notes += [f"not read: {source.path} ({source.problem})" for source in reads if source.problem]
    wanted: set[str] = set()
    own = {name.split(".")[0] for name in reader.names(folder)}
    for asked in (asked for read in reads for asked in read.imports):
        top = asked.top
        if top in by_module:
            wanted.add(canonical(by_module[top].name))
        elif not (
            top in own or builtin.is_builtin(top, interpreter.version) or _is_standard(machine, interpreter, top)
        ):
            answer.left_out.append(
                f"{top} is imported in {reader.name(asked.path)}, line {asked.line}, and is not here"
            )
    known = {canonical(package.name): package for package in packages}
    pending = sorted(wanted)
    while pending:
        package = known.get(pending.pop())
        installed = records.get((package.location, canonical(package.name))) if package is not None else None
        for asked_for in asked_by(installed, interpreter, reader.system) if installed is not None else []:
            if asked_for.key in known and asked_for.key not in wanted:
                wanted.add(asked_for.key)
                pending.append(asked_for.key)
    answer.left_out = list(dict.fromkeys(answer.left_out))
    return [package for package in packages if canonical(package.name) in wanted]


def _is_standard(machine: Machine, interpreter: Interpreter, top: str) -> bool:
    from kalyx.core.environments.invocation import Invocation
    from kalyx.core.environments.searchpath import search_path
    from kalyx.core.imports.resolver import Resolver

    search = search_path(machine.reader, interpreter, Invocation(no_site=True))
    return Resolver(machine.reader, interpreter, search, machine.reader.folder).resolve(top).location is not None


def _text(reader: Reader, interpreter: Interpreter, seat: Seat, answer: RecordAnswer) -> str:
    environment = seat.environment
    head = [
        HEAD,
        f"# python {interpreter.version} {interpreter.implementation} {interpreter.abi_flags}".rstrip(),
        f"# platform {reader.system} {interpreter.architecture or 'unknown'}",
        f"# sees its base: {'yes' if environment is not None and environment.sees_base else 'no'}",
    ]
    text = [f"# not in these lines: {item}" for item in answer.left_out] + [f"# note: {note}" for note in answer.notes]
    lines = [record_line.line for record_line in sorted(answer.lines, key=lambda by_name: by_name.name.lower())]
    return "\n".join([*head, *text, *lines]) + "\n"
