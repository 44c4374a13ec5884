"""The job file: an open ZIP (``job.json`` and ``series/<sha256>.csv.gz``) or plain JSON; read with faults, saved atomically."""

from __future__ import annotations

import copy
import io
import json
import os
import stat
import tempfile
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from calm_relay.errors import BadInput, Fault
from calm_relay.handed_in import first_bytes
from calm_relay.job.common_models import SeriesRef
from calm_relay.job.costs import with_costs_noted
from calm_relay.job.fault_words import words_of
from calm_relay.job.migrations import migrate
from calm_relay.job.models import Job
from calm_relay.job.references import reference_faults
from calm_relay.job.series import SeriesStore, read_beside, read_csv_column, series_hash, write_csv_gz

SUFFIX = ".crjob"
_MAX_JSON_BYTES = 50_000_000
_EPOCH = (1980, 1, 1, 0, 0, 0)


@dataclass(frozen=True)
class OpenedJob:
    """A job as read: with its series, the version it came in, and the file's stamp for 'changed on disk since'."""

    job: Job
    store: SeriesStore
    came_in_version: int
    stamp: tuple[int, int] | None = None
    notes: tuple[str, ...] = field(default=())


def _pydantic_faults(error: ValidationError, file: str, data: Any) -> list[Fault]:
    out = []
    deeper = {item["loc"][:i] for item in error.errors() for i in range(len(item["loc"]))}
    for item in error.errors():
        kind = item["type"]
        if kind == "too_short" and item["loc"] in deeper:
            continue  # items at fault were left out of the count: the row is as long as it should be
        problem, remedy = words_of(item, shown_units=not file)
        out.append(Fault(file, _field_path(item["loc"], data), problem, remedy))
    return out


def _field_path(loc: tuple[int | str, ...], data: Any) -> str:
    """Return a location as people read it: list items by their id, union tags left out."""
    text = ""
    here: Any = data
    for step in loc:
        if isinstance(step, int):
            item = here[step] if isinstance(here, list | tuple) and step < len(here) else None
            name = item.get("id") if isinstance(item, dict) else None
            text += f"[{name if isinstance(name, str) else step}]"
            here = item
        elif isinstance(here, dict) and step not in here and here.get("kind") == step:
            continue
        else:
            text += f".{step}" if text else str(step)
            here = here.get(step) if isinstance(here, dict) else None
    return text


def validate_job(data: dict[str, Any], file: str, valid: Mapping[str, object] | None = None) -> Job:
    """Return the job that plain data describes; raises BadInput with every fault of field and reference at once.

    `valid` are fields of another job, as they stand there: what `data` has of them is not read anew.
    """
    faults: list[Fault] = []
    job: Job | None = None
    try:
        job = Job.model_validate({**data, **(valid or {})})
    except ValidationError as error:
        faults += _pydantic_faults(error, file, data)
    told = {fault.field for fault in faults}
    faults += [fault for fault in reference_faults(data, file) if fault.field not in told]
    if faults or job is None:
        raise BadInput(faults)
    return job


def read_job(path: Path | str) -> OpenedJob:
    """Read a job file of either form.

    Raises
    ------
    BadInput
        One fault for each thing wrong, each naming the file, the field and what would be right.
    """
    path = Path(path)
    shown = str(path)
    try:
        status = path.stat()
        if stat.S_ISDIR(status.st_mode):
            raise BadInput([Fault(shown, "", "this is a folder", f"name a job file (*{SUFFIX} or *.json)")])
        raw = path.read_bytes()
    except FileNotFoundError:
        raise BadInput([Fault(shown, "", "there is no such file", "check the name")]) from None
    except OSError as error:
        raise BadInput([Fault(shown, "", f"it cannot be read ({error.strerror})", "check its rights")]) from error
    stamp = (status.st_mtime_ns, status.st_size)
    archive: zipfile.ZipFile | None = None
    if raw[:2] == b"PK":
        try:
            archive = zipfile.ZipFile(io.BytesIO(raw))
            if archive.getinfo("job.json").file_size > _MAX_JSON_BYTES:
                raise BadInput([Fault(shown, "job.json", "it is larger than 50 MB", "this is not a job")])
            text = archive.read("job.json")
        except KeyError:
            raise BadInput([Fault(shown, "", "there is no job.json inside", "this is not a job file")]) from None
        except (zipfile.BadZipFile, EOFError, OSError, ValueError, NotImplementedError, RuntimeError) as error:
            raise BadInput([Fault(shown, "", f"the file is damaged ({error})", "open an older copy")]) from error
    else:
        text = raw
    data = _parse(text, shown)
    data, came_in = migrate(data, shown)
    store = SeriesStore()
    faults: list[Fault] = []
    data = _load_series(data, path, archive, store, faults)
    try:
        job = validate_job(data, shown)
    except BadInput as error:
        raise BadInput([*error.faults, *faults]) from None
    if faults:
        raise BadInput(faults)
    return OpenedJob(with_costs_noted(job), store, came_in, stamp)


def is_job_file(path: Path) -> bool:
    """Return whether a file looks like a job of either form, by its first bytes."""
    if path.suffix.lower() == SUFFIX:
        return True
    head = first_bytes(path, 4000)
    if head is None:
        return path.suffix.lower() == ".json"
    return head[:2] == b"PK" or b'"schema_version"' in head


def _parse(text: bytes, shown: str) -> dict[str, Any]:
    try:  # NaN and Infinity go through here, so that the models name the field they stand in
        data = json.loads(text.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        raise BadInput([Fault(shown, "", f"it is not UTF-8 text (byte {error.start})", "save it as UTF-8")]) from error
    except json.JSONDecodeError as error:
        place = f"line {error.lineno}, column {error.colno}"
        raise BadInput([Fault(shown, place, f"it is not JSON ({error.msg})", "mend the text at that place")]) from error
    except (ValueError, RecursionError) as error:
        raise BadInput([Fault(shown, "", f"it cannot be used ({error})", "write plain JSON numbers and lists")]) from error
    if not isinstance(data, dict):
        raise BadInput([Fault(shown, "", "the file holds no job object", "start it with '{'")])
    return data


def _series_holders(data: dict[str, Any]) -> list[tuple[str, dict[str, Any], str]]:
    """Return where plain data names series: (path of the field, the dict it stands in, its key there)."""
    out = []
    site, house = data.get("site"), data.get("house")
    background = house.get("background") if isinstance(house, dict) else None
    weather = site.get("weather") if isinstance(site, dict) else None
    if isinstance(background, dict):
        out += [(f"house.background.{name}", background, name) for name in ("series", "low", "high")]
    tariff = data.get("tariff")
    if isinstance(tariff, dict):
        out += [(f"tariff.{name}", tariff, name) for name in ("hourly_import", "hourly_export")]
    if isinstance(weather, dict) and weather.get("kind") == "file":
        out += [(f"site.weather.{name}", weather, name) for name in ("ghi", "dni", "dhi", "air")]
    return [row for row in out if isinstance(row[1].get(row[2]), dict)]


def _load_series(
    data: dict[str, Any], path: Path, archive: zipfile.ZipFile | None, store: SeriesStore, faults: list[Fault]
) -> dict[str, Any]:
    """Read the series a job names into `store`; a path becomes the hash it was read with. Faults are collected."""
    data = copy.deepcopy(data)
    for field_path, holder, key in _series_holders(data):
        try:
            ref = SeriesRef.model_validate(holder[key])
        except ValidationError:
            continue  # the model names this fault itself
        try:
            if ref.path is not None and archive is None:
                holder[key] = {**holder[key], "path": None, "sha256": store.put(read_beside(path, ref, field_path))}
            elif archive is None:
                faults.append(Fault(str(path), field_path, "a plain .json job cannot hold a series", "name it by 'path'"))
            else:
                _from_archive(archive, ref, path, field_path, store, faults)
        except BadInput as error:
            faults.extend(error.faults)
    return data


def _from_archive(
    archive: zipfile.ZipFile, ref: SeriesRef, path: Path, field_path: str, store: SeriesStore, faults: list[Fault]
) -> None:
    member = f"series/{ref.sha256}.csv.gz"
    try:
        raw = archive.read(member)
    except (KeyError, zipfile.BadZipFile, EOFError, OSError):
        faults.append(Fault(str(path), field_path, f"'{member}' is missing or damaged", "import the series again"))
        return
    values = read_csv_column(raw, ref, member, field_path)
    if series_hash(values) != ref.sha256:
        faults.append(Fault(str(path), field_path, f"'{member}' was altered", "import the series again"))
    store.put(values)


def job_json(job: Job) -> bytes:
    """Return the job as indented JSON."""
    return (job.model_dump_json(indent=1) + "\n").encode()


def job_bytes(job: Job, store: SeriesStore) -> bytes:
    """Return the job as the container's bytes; the same job gives the same bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        info = zipfile.ZipInfo("job.json", _EPOCH)
        info.compress_type = zipfile.ZIP_DEFLATED
        archive.writestr(info, job_json(job))
        for key, ref in sorted({ref.sha256: ref for ref in job.series_refs().values() if ref.sha256}.items()):
            member = zipfile.ZipInfo(f"series/{key}.csv.gz", _EPOCH)
            archive.writestr(member, write_csv_gz(store.get(key), ref.column))
    return out.getvalue()


def write_atomically(path: Path, content: bytes) -> None:
    """Put `content` at `path` so that a crash at any moment leaves the old file or the new one, never a torn one.

    Follows a symbolic link to its target and keeps the file's mode. Raises OSError with the old file untouched.
    """
    target = path.resolve()
    try:
        mode = stat.S_IMODE(target.stat().st_mode)
    except FileNotFoundError:
        mask = os.umask(0)
        os.umask(mask)
        mode = 0o666 & ~mask
    handle, temp = tempfile.mkstemp(dir=target.parent, prefix=f".{target.name}.", suffix=".part")
    try:
        with os.fdopen(handle, "wb") as out:
            out.write(content)
            out.flush()
            os.fchmod(out.fileno(), mode)
            os.fsync(out.fileno())
        Path(temp).replace(target)
    except BaseException:
        Path(temp).unlink(missing_ok=True)
        raise
    folder = os.open(target.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def save_job(path: Path | str, job: Job, store: SeriesStore) -> tuple[int, int]:
    """Save in the form the name asks for (``.json`` plain, else the container); returns the file's new stamp.

    Raises
    ------
    BadInput
        When the place cannot be written or the job does not fit the form; the file is then as it was.
    """
    path = Path(path)
    plain = path.suffix.lower() == ".json"
    if plain and job.series_refs():
        held = next(iter(job.series_refs()))
        raise BadInput([Fault(str(path), held, "a plain .json cannot hold a series", f"save it as *{SUFFIX}")])
    try:
        write_atomically(path, job_json(job) if plain else job_bytes(job, store))
        status = path.stat()
    except OSError as error:
        problem = f"it could not be saved ({error.strerror}); the old file is untouched"
        raise BadInput([Fault(str(path), "", problem, "check the folder's rights and room, or save elsewhere")]) from error
    return status.st_mtime_ns, status.st_size
