"""Sound from files of whatever origin: WAV, FLAC, OGG, MP3, AIFF, and the sound track of what phones
and cameras make. Only ever called in a child process.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import av
import numpy as np
import soundfile
from av.error import FFmpegError
from numpy.typing import NDArray

from hauch.core.sound.analysis import MOST_SECONDS
from hauch.formats.apart import Refused

MOST_CHANNELS = 16
RATES = (4000, 400_000)
"""Samples a second between which a recording is read."""

BLOCK = 1 << 16
"""So many samples are read at once."""


@dataclass(frozen=True, slots=True)
class SoundInfo:
    """What a file says of itself.

    Parameters
    ----------
    seconds, rate, channels : of the sound [s], [1/s]
    kind : such as "WAV, 24 bit"
    lossy : whether its coding leaves out what is thought to be masked
    made_at : when it was recorded, as the file has it (ISO 8601), if at all
    """

    seconds: float
    rate: int
    channels: int
    kind: str
    lossy: bool
    made_at: str | None = None


SOUNDFILE = {b"RIFF": "", b"RF64": "", b"FORM": "", b"fLaC": "", b"OggS": "", b"ID3": ""}
BITS = {
    "PCM_U8": 8,
    "PCM_S8": 8,
    "PCM_16": 16,
    "PCM_24": 24,
    "PCM_32": 32,
    "FLOAT": 32,
    "DOUBLE": 64,
}
LOSSY = (
    "VORBIS",
    "OPUS",
    "MPEG_LAYER_I",
    "MPEG_LAYER_II",
    "MPEG_LAYER_III",
    "GSM610",
    "ULAW",
    "ALAW",
)


def _container(head: bytes) -> str | None:
    """The demuxer that reads a file of this beginning; empty for soundfile, None for no sound.

    Only demuxers that read nothing but the file itself are named.
    """
    if any(head.startswith(mark) for mark in SOUNDFILE) or (
        len(head) > 1 and head[0] == 0xFF and head[1] & 0xE0 == 0xE0
    ):
        return ""
    if head[4:8] in (b"ftyp", b"moov", b"mdat", b"wide", b"free", b"skip"):
        return "mp4"
    if head.startswith(b"\x1a\x45\xdf\xa3"):
        return "matroska"
    return None


def _kind_of(path: Path) -> str:
    with path.open("rb") as file:
        head = file.read(16)
    if not head:
        raise Refused("The file is empty.")
    found = _container(head)
    if found is None:
        raise Refused(
            "It is no sound that can be read here. WAV, FLAC, OGG, MP3, AIFF, M4A, MP4, MOV and WebM"
            " are; its first bytes are of none of them, whatever its name says."
        )
    return found


def glance(path: Path) -> SoundInfo:
    """What a file says of itself, without reading its sound.

    Raises
    ------
    Refused : no sound, broken, too long, a rate or a number of channels that nothing is told from
    """
    info = _glance_pcm(path) if _kind_of(path) == "" else _glance_film(path)
    if not 1 <= info.channels <= MOST_CHANNELS:
        raise Refused(f"It has {info.channels} channels; at most {MOST_CHANNELS} are read.")
    if not RATES[0] <= info.rate <= RATES[1]:
        raise Refused(
            f"It was sampled {info.rate:,} times a second; between {RATES[0]:,} and {RATES[1]:,}"
            " times can be read."
        )
    if info.seconds > MOST_SECONDS:
        raise Refused(
            f"It lasts {_long(info.seconds)}; at most {MOST_SECONDS / 3600:g} h is read. Cut out what"
            " matters: a minute of steady running tells all there is."
        )
    return info


def _long(seconds: float) -> str:
    return f"{seconds / 3600:.1f} h" if seconds >= 5400 else f"{seconds / 60:.0f} min"


def _glance_pcm(path: Path) -> SoundInfo:
    with closing(_opened(path)) as file:
        bits = BITS.get(file.subtype)
        kind = file.format if bits is None else f"{file.format}, {bits} bit"
        if file.subtype in ("FLOAT", "DOUBLE"):
            kind += " float"
        return SoundInfo(
            file.frames / file.samplerate,
            file.samplerate,
            file.channels,
            kind,
            file.subtype in LOSSY,
        )


def _opened(path: Path) -> soundfile.SoundFile:
    try:
        return soundfile.SoundFile(str(path))
    except (soundfile.LibsndfileError, RuntimeError) as problem:
        raise Refused(
            "It begins as a sound file does, but cannot be read: it is broken or cut off. Copy it"
            " again from the recorder."
        ) from problem


def _film(path: Path) -> av.container.InputContainer:
    try:
        found = av.open(
            path.open("rb"),
            format=_kind_of(path),
            options={"enable_drefs": "0"},
            metadata_errors="ignore",
        )
    except (FFmpegError, ValueError) as problem:
        raise Refused(
            "It begins as a film or a phone's recording does, but cannot be read: it is broken or cut"
            " off. Copy it again from the phone or the camera."
        ) from problem
    if not isinstance(found, av.container.InputContainer):
        raise TypeError("a file that is read is no output")
    return found


def _track(container: av.container.InputContainer) -> av.AudioStream:
    if not container.streams.audio:
        raise Refused("There is no sound in this film.")
    return container.streams.audio[0]


def _glance_film(path: Path) -> SoundInfo:
    with closing(_film(path)) as container:
        track = _track(container)
        length = (
            float(track.duration * track.time_base)
            if track.duration and track.time_base
            else (container.duration or 0) / 1e6
        )
        codec = track.codec_context
        return SoundInfo(
            length,
            int(codec.sample_rate or 0),
            int(codec.channels or 0),
            f"{path.suffix.lstrip('.').upper() or 'film'}, {codec.name.upper()}",
            codec.name not in ("alac", "flac") and not codec.name.startswith("pcm"),
            _made_at(container.metadata.get("creation_time")),
        )


def _made_at(text: str | None) -> str | None:
    """A moment as ISO 8601, where a file has one; clocks that were never set (1904, 1970) count as
    none.
    """
    if not text:
        return None
    try:
        moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError:
        return None
    return moment.isoformat() if moment.year > 1990 else None


def read_channel(path: Path, channel: int) -> tuple[NDArray[np.float32], int, SoundInfo]:
    """Samples of one channel, full scale 1, with the samples a second.

    Parameters
    ----------
    path : of the file
    channel : from 0 on

    Raises
    ------
    Refused : as `glance`; a channel that is not there; sound that breaks off with nothing before
    """
    info = glance(path)
    if not 0 <= channel < info.channels:
        raise Refused(f"There is no channel {channel + 1}; the file has {info.channels}.")
    blocks = _pcm(path, channel) if _kind_of(path) == "" else _decoded(path, channel)
    most = int(MOST_SECONDS * info.rate) + info.rate
    out: list[NDArray[np.float32]] = []
    count = 0
    for block in blocks:
        out.append(block)
        count += len(block)
        if count > most:  # the file said that it was shorter
            raise Refused(f"It lasts more than {_long(MOST_SECONDS)}, at most that is read.")
    if not count:
        raise Refused("There is no sound in it: it lasts 0 s.")
    samples = np.concatenate(out)
    return samples, info.rate, info


def _pcm(path: Path, channel: int) -> Iterator[NDArray[np.float32]]:
    with closing(_opened(path)) as file:
        while True:
            try:
                block = file.read(BLOCK, dtype="float32", always_2d=True)
            except soundfile.LibsndfileError:
                return  # cut off: what came before stands
            if not len(block):
                return
            yield np.ascontiguousarray(block[:, channel])


def _decoded(path: Path, channel: int) -> Iterator[NDArray[np.float32]]:
    with closing(_film(path)) as container:
        track = _track(container)
        planar = av.AudioResampler(format="fltp")
        try:
            for frame in container.decode(track):
                for part in planar.resample(frame):
                    yield np.ascontiguousarray(part.to_ndarray()[channel], np.float32)
        except FFmpegError:
            return  # cut off: what came before stands
