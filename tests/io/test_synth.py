"""Made-up models: right files, the same for the same seed."""

from __future__ import annotations

import hashlib
from pathlib import Path

import gguf
import pytest

from zinc_kettle.errors import ModelError
from zinc_kettle.formats import vocab
from zinc_kettle.formats.models import ModelFolder, check_disk
from zinc_kettle.formats.presets import PRESETS, Shape
from zinc_kettle.formats.synth import parameters, tensor_bytes, write_model

TINY = Shape(layers=1, width=64, heads=2, kv_heads=1, ffn=96)


def make(path: Path, quantization: str = "Q8_0", **changes: object) -> Path:
    """A very small model."""
    given = {"name": "x", "shape": TINY, "quantization": quantization, "seed": 1}
    write_model(path, **{**given, **changes})  # type: ignore[arg-type]
    return path


def digest(path: Path) -> str:
    """Hash of a file."""
    return hashlib.sha256(path.read_bytes()).hexdigest()


@pytest.mark.parametrize("quantization", ["F16", "Q8_0", "Q4_0"])
def test_the_standard_reader_agrees(tmp_path: Path, quantization: str) -> None:
    """Read back with the format's own package: sizes, types, vocabulary, tensor bytes as said before writing."""
    path = make(tmp_path / "m.gguf", quantization)
    reader = gguf.GGUFReader(path)
    assert reader.fields["general.architecture"].contents() == "llama"
    assert reader.fields["llama.block_count"].contents() == 1
    assert len(reader.fields["tokenizer.ggml.tokens"].contents()) == len(vocab.build().tokens)
    assert sum(int(t.n_bytes) for t in reader.tensors) == tensor_bytes(TINY, quantization)
    assert sum(int(t.n_elements) for t in reader.tensors) == parameters(TINY)
    kinds = {t.tensor_type.name for t in reader.tensors if t.name.endswith(("_q.weight", "down.weight", "embd.weight"))}
    assert kinds == {quantization}


def test_same_seed_same_bytes(tmp_path: Path) -> None:
    """Reproducible; another seed is another file."""
    a, b, c = (make(tmp_path / f"{n}.gguf", seed=s) for n, s in (("a", 1), ("b", 1), ("c", 2)))
    assert digest(a) == digest(b) != digest(c)


@pytest.mark.parametrize("quantization", ["F16", "Q8_0", "Q4_0"])
def test_a_tame_model_is_silent_outside_words(tmp_path: Path, quantization: str) -> None:
    """The head's rows of control and byte tokens are zero after dequantizing; words' rows are not."""
    words = vocab.build()
    for tame in (True, False):
        reader = gguf.GGUFReader(make(tmp_path / f"{tame}.gguf", quantization, tame=tame))
        head = next(t for t in reader.tensors if t.name == "output.weight")
        rows = abs(gguf.dequantize(head.data, head.tensor_type)).sum(axis=1)
        assert bool((rows[: vocab.END_ID + 1] == 0).all()) is tame
        assert all(rows[i] > 0 for i, speakable in enumerate(words.speakable) if speakable)


def test_vocabulary_is_byte_complete() -> None:
    """256 bytes, no token twice, sizes that suit every block."""
    words = vocab.build()
    assert sum(1 for t in words.types if t == vocab.TYPE_BYTE) == 256
    assert len(set(words.tokens)) == len(words.tokens) and len(words.tokens) % vocab.ROW_MULTIPLE == 0


@pytest.mark.parametrize(
    "shape",
    [
        Shape(0, 64, 2, 1, 96),
        Shape(1, 64, 3, 1, 96),
        Shape(1, 64, 4, 3, 96),
        Shape(1, 48, 2, 1, 96),
        Shape(1, 64, 2, 1, 95),
    ],
)
def test_shapes_that_do_not_fit(tmp_path: Path, shape: Shape) -> None:
    """Said before anything is written."""
    with pytest.raises(ModelError):
        make(tmp_path / "m.gguf", shape=shape)
    assert not list(tmp_path.iterdir())


def test_presets_are_as_large_as_their_names() -> None:
    """Within 6% of 15, 60, 250 million and 1 billion weights."""
    for name, millions in (("brine-15m", 15), ("brine-60m", 60), ("brine-250m", 250), ("brine-1b", 1000)):
        assert parameters(PRESETS[name]) / 1e6 == pytest.approx(millions, rel=0.06)


def test_no_room_is_said_before_writing(tmp_path: Path) -> None:
    """Disk need against what is free."""
    with pytest.raises(ModelError, match="are free"):
        check_disk(tmp_path / "not" / "there", 1 << 60)


def test_a_failed_write_leaves_nothing(tmp_path: Path) -> None:
    """No half file that a study would take for a model."""
    (tmp_path / "blocked").write_text("a file where a folder should be")
    with pytest.raises(ModelError, match="could not write"):
        make(tmp_path / "blocked" / "m.gguf")


def test_the_folder_makes_what_is_missing(tmp_path: Path) -> None:
    """As large as promised, with progress up to the end."""
    folder = ModelFolder(tmp_path)
    told: list[tuple[int, int]] = []
    made = folder.make("brine-15m", "Q4_0", lambda done, total: told.append((done, total)))
    assert abs(made.size_bytes - folder.planned_bytes("brine-15m", "Q4_0")) < 250_000
    assert told[-1][0] == told[-1][1] and folder.find("brine-15m", "Q4_0") == made
