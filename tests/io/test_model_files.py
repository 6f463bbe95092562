"""Model headers: right, bounded, and safe against files that lie."""

from __future__ import annotations

import json
import struct
import subprocess
import sys
from pathlib import Path

import gguf
import pytest

from tests import gguf_bytes
from zinc_kettle.errors import ModelError
from zinc_kettle.formats.gguf_model import read_gguf
from zinc_kettle.formats.gguf_reader import WINDOW_BYTES, read_header
from zinc_kettle.formats.presets import PRESETS
from zinc_kettle.formats.safetensors import read_safetensors
from zinc_kettle.formats.scan import read_model, scan
from zinc_kettle.formats.synth import QUANTIZATIONS, tensor_bytes, write_model


@pytest.mark.parametrize("quantization", QUANTIZATIONS)
def test_the_same_as_the_standard_package_reads(tmp_path: Path, quantization: str) -> None:
    """Names, types, sizes and places of all tensors, and the shape that was written."""
    path = tmp_path / "m.gguf"
    preset = PRESETS["brine-15m"]
    write_model(path, name="brine-15m", shape=preset, quantization=quantization, seed=1)
    header, reference = read_header(path), gguf.GGUFReader(path)
    theirs = {t.name: (t.tensor_type.name, int(t.n_bytes), int(t.data_offset)) for t in reference.tensors}
    assert {t.name: (t.type, t.size_bytes, header.data_start + t.offset) for t in header.tensors} == theirs
    shape = read_gguf(path)
    assert (shape.layers, shape.width, shape.heads, shape.ffn) == (10, 256, 4, 1280)
    assert shape.kv_heads == (2,) * 10 and shape.key_dim == 64 and shape.vocab == 5632
    assert shape.weights_bytes == tensor_bytes(preset, quantization) and shape.main_type == quantization
    assert shape.label is not None and shape.label.startswith(quantization) and not shape.tied


def test_a_header_by_hand(tmp_path: Path) -> None:
    """Written without any package: groups by kind and layer, the tied output, the label that is only a label."""
    path = tmp_path / "k.gguf"
    path.write_bytes(gguf_bytes.model())
    shape = read_gguf(path)
    assert shape.name == "Kelp" and shape.context_length == 4096 and shape.vocab == 64 and shape.tied
    assert {(g.kind, g.layer, g.type, g.weights) for g in shape.groups} == {
        ("embedding", None, "Q8_0", 4096),
        ("attention", 0, "Q8_0", 4096),
        ("norm", None, "F32", 64),
    }
    assert shape.label == "Q8_0" and shape.bits_by_kind()["attention"] == 8.5


def test_windows_and_experts(tmp_path: Path) -> None:
    """A pattern is followed; a window without one is said and counted as none."""
    more = [gguf_bytes.field("llama.attention.sliding_window", "u32", 512)]
    path = tmp_path / "w.gguf"
    tensors, size = gguf_bytes.usual_tensors()
    path.write_bytes(gguf_bytes.header([*gguf_bytes.usual_fields(), *more], tensors) + bytes(size + 32))
    shape = read_gguf(path)
    assert shape.window == 512 and shape.windowed == () and "not which layers" in shape.notes[0]
    pattern = gguf_bytes.field(
        "llama.attention.sliding_window_pattern", "array", struct.pack("<IQ2?", 7, 2, True, False)
    )
    experts = [gguf_bytes.field("llama.expert_count", "u32", 8), gguf_bytes.field("llama.expert_used_count", "u32", 2)]
    path.write_bytes(
        gguf_bytes.header([*gguf_bytes.usual_fields(), *more, pattern, *experts], tensors) + bytes(size + 32)
    )
    shape = read_gguf(path)
    assert shape.windowed == (True, False) and not shape.notes and (shape.experts, shape.experts_active) == (8, 2)


def test_split_files_are_one_model(tmp_path: Path) -> None:
    """All parts by their names; a missing one is named."""
    tensors, size = gguf_bytes.usual_tensors()
    first, second = tmp_path / "m-00001-of-00002.gguf", tmp_path / "m-00002-of-00002.gguf"
    split = gguf_bytes.field("split.count", "u32", 2)
    first.write_bytes(gguf_bytes.header([*gguf_bytes.usual_fields(), split], tensors[:1]) + bytes(size + 32))
    with pytest.raises(ModelError, match=r"m-00002-of-00002\.gguf"):
        read_gguf(first)
    more = gguf_bytes.tensor("blk.1.ffn_up.weight", (64, 64), 8, 0)
    second.write_bytes(gguf_bytes.header([split], [more]) + bytes(size + 32))
    shape = read_gguf(second.with_name(first.name))
    assert shape.weights == 2 * 4096
    assert [f.path.name for f in scan(tmp_path)] == [first.name]
    alone = tmp_path / "renamed.gguf"
    first.rename(alone)
    with pytest.raises(ModelError, match="one of 2 parts"):
        read_gguf(alone)


def test_only_the_header_of_a_huge_file_is_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of 60 GB, with a vocabulary of 128,000 and as many merges, no more than the header and one window is read."""
    path = tmp_path / "huge.gguf"
    head = gguf_bytes.write_huge(path, size=60_000_000_000, tokens=128_000, merges=128_000)
    code = (
        "import sys; from pathlib import Path; from zinc_kettle.formats.gguf_model import read_gguf\n"
        "before = open('/proc/self/io').read() if Path('/proc/self/io').exists() else ''\n"
        "shape = read_gguf(Path(sys.argv[1]))\n"
        "after = open('/proc/self/io').read() if before else ''\n"
        "read = [int(t.split('rchar: ')[1].split()[0]) for t in (before, after)] if before else [0, 0]\n"
        "print(shape.vocab, shape.weights_bytes, read[1] - read[0])\n"
    )
    out = subprocess.run(
        [sys.executable, "-c", code, str(path)], check=True, capture_output=True, text=True, timeout=600
    )
    vocab, size, read = map(int, out.stdout.split())
    assert vocab == 128_000 and size > 59_000_000_000 and read < head + 2 * WINDOW_BYTES + 100_000


FUZZ = """
import json, sys, time
from pathlib import Path
from tests import gguf_bytes
from zinc_kettle.errors import ModelError
from zinc_kettle.formats.gguf_model import read_gguf
folder = Path(sys.argv[1])
must = gguf_bytes.by_hand()
files = {**must, **gguf_bytes.fuzzed(240, seed=7)}
told, slowest = {}, 0.0
for name, data in files.items():
    path = folder / "hostile.gguf"
    path.write_bytes(data)
    start = time.process_time()
    try:
        read_gguf(path)
        told[name] = ""
    except ModelError as error:
        told[name] = str(error)
    slowest = max(slowest, time.process_time() - start)
status = Path("/proc/self/status")
peak = 0
if status.exists():
    peak = int(status.read_text().split("VmHWM:")[1].split()[0]) * 1024
print(json.dumps([told, list(must), slowest, peak]))
"""


def test_hostile_files_are_refused_at_once_and_in_little_memory(tmp_path: Path) -> None:
    """Over 300 files: a clear error or a sound shape, none over a second of processor time, all within 200 MB."""
    code = [sys.executable, "-c", FUZZ, str(tmp_path)]
    out = subprocess.run(code, check=True, capture_output=True, text=True, timeout=600, cwd=Path(__file__).parents[2])
    told, must, slowest, peak = json.loads(out.stdout)
    assert len(told) >= 300 and slowest < 1.0
    assert peak < 200_000_000
    assert not [name for name in must if not told[name]], "a hostile file was taken for a model"
    refused = [text for text in told.values() if text]
    assert len(refused) >= 200
    assert all("hostile" in text and len(text) < 600 and "Traceback" not in text for text in refused)
    assert not any(c in text for text in refused for c in "\x1b\x00\x07")


def safe_folder(folder: Path, header: dict[str, object], **config: object) -> Path:
    """A folder with one safetensors file of zeros."""
    raw = json.dumps(header).encode()
    (folder / "model.safetensors").write_bytes(struct.pack("<Q", len(raw)) + raw + bytes(40_000))
    usual = {
        "model_type": "kelp",
        "num_hidden_layers": 1,
        "hidden_size": 64,
        "num_attention_heads": 4,
        "vocab_size": 100,
        "num_key_value_heads": 2,
        "intermediate_size": 128,
        "max_position_embeddings": 4096,
    }
    (folder / "config.json").write_text(json.dumps({**usual, **config}))
    return folder


def entry(*shape: int, kind: str = "BF16", at: int = 0) -> dict[str, object]:
    """One tensor of a header."""
    size = 2 if kind == "BF16" else 4
    for d in shape:
        size *= d
    return {"dtype": kind, "shape": list(shape), "data_offsets": [at, at + size]}


def test_a_safetensors_folder(tmp_path: Path) -> None:
    """Layers and kinds by their names, sizes from the headers, the rest from config.json."""
    header = {
        "__metadata__": {"format": "pt"},
        "model.embed_tokens.weight": entry(100, 64),
        "model.layers.0.self_attn.q_proj.weight": entry(64, 64, at=12_800),
        "model.norm.weight": entry(64, at=20_992),
    }
    shape = read_model(safe_folder(tmp_path, header, layer_types=["sliding_attention"], sliding_window=512))
    assert shape.architecture == "kelp" and shape.kv_heads == (2,) and shape.windowed == (True,) and shape.tied
    assert {(g.kind, g.layer, g.type) for g in shape.groups} == {
        ("embedding", None, "BF16"),
        ("attention", 0, "BF16"),
        ("norm", None, "BF16"),
    }
    assert [f.shape for f in scan(tmp_path)] == [shape]


@pytest.mark.parametrize(
    "header",
    [
        {"a": entry(64, kind="Q9")},
        {"a": {"dtype": "BF16", "shape": [1 << 62, 8], "data_offsets": [0, 1]}},
        {"a": {"dtype": "BF16", "shape": [-4], "data_offsets": [0, 8]}},
        {"a": {"dtype": 4}},
        {"a": []},
        {"a": {"dtype": "BF16", "shape": [4], "data_offsets": [90_000, 90_008]}},
    ],
)
def test_hostile_safetensors(tmp_path: Path, header: dict[str, object]) -> None:
    """A clear error each."""
    with pytest.raises(ModelError, match="safetensors"):
        read_safetensors(safe_folder(tmp_path, header))


def test_a_lying_length_and_a_broken_config(tmp_path: Path) -> None:
    """Neither is believed."""
    folder = safe_folder(tmp_path, {})
    (folder / "model.safetensors").write_bytes(struct.pack("<Q", 1 << 62) + b"{}")
    with pytest.raises(ModelError, match="claims a header"):
        read_safetensors(folder)
    (folder / "config.json").write_text("[" * 100_000)
    with pytest.raises(ModelError, match="is not a JSON object"):
        read_safetensors(folder)
    (folder / "config.json").write_text('{"num_hidden_layers": 1}')
    (folder / "model.safetensors").write_bytes(struct.pack("<Q", 2) + b"{}")
    with pytest.raises(ModelError, match="does not say"):
        read_safetensors(folder)


def test_a_scan_names_what_cannot_be_read(tmp_path: Path) -> None:
    """Sound and broken files are both lines; deep folders end."""
    (tmp_path / "good.gguf").write_bytes(gguf_bytes.model())
    (tmp_path / "bad.gguf").write_bytes(b"GGUF")
    deep = tmp_path / "a" / "b" / "c" / "d" / "e"
    deep.mkdir(parents=True)
    (deep / "hidden.gguf").write_bytes(gguf_bytes.model())
    found = {f.path.name: f for f in scan(tmp_path)}
    assert set(found) == {"good.gguf", "bad.gguf"}
    assert found["good.gguf"].shape is not None and "is not a GGUF file" in found["bad.gguf"].trouble
    with pytest.raises(ModelError, match="no folder"):
        scan(tmp_path / "none")
