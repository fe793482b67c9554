"""Keys, and the control connection between the two ends."""

from __future__ import annotations

import socket
from collections.abc import Iterator
from pathlib import Path

import pytest

from tarnfell.media import keys
from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.wire import WireError
from tarnfell.wire.control import MAX_JSON_BYTES, Seal

# Keys


def test_keys_are_made_private_and_read_back(tmp_path: Path) -> None:
    file = tmp_path / "deep" / "key"
    key, where, made = keys.read_or_make_key(str(file))
    assert (where, made, len(key) >= 32) == (file, True, True)
    assert file.stat().st_mode & 0o777 == 0o600
    assert keys.read_or_make_key(str(file)) == (key, file, False)
    assert keys.read_key(str(file)) == key


def test_the_default_key_follows_the_environment(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("TARNFELL_KEY_FILE", raising=False)
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    assert keys.default_key_file() == tmp_path / "tarnfell" / "farend.key"
    monkeypatch.setenv("TARNFELL_KEY_FILE", "/elsewhere/key")
    assert keys.default_key_file() == Path("/elsewhere/key")
    with pytest.raises(keys.KeyFileError, match="cannot be read"):
        keys.read_key(None)


# The control connection


@pytest.fixture
def line() -> Iterator[tuple[Channel, socket.socket]]:
    with socket.create_server(("127.0.0.1", 0)) as server:
        near = socket.create_connection(server.getsockname())
        far, _ = server.accept()
    channel = Channel(near, Seal("probe", b"k" * 32), Seal("farend", b"k" * 32))
    yield channel, far
    channel.close()
    far.close()


def test_messages_of_both_kinds_cross(line: tuple[Channel, socket.socket]) -> None:
    channel, far = line
    other = Channel(far, Seal("farend", b"k" * 32), Seal("probe", b"k" * 32))
    channel.send({"start": {}})
    channel.send_bytes(bytes(300_000))
    assert other.receive() == {"start": {}}
    assert other.receive() == bytes(300_000)
    other.send_bytes(b"record")
    with pytest.raises(WireError, match="a message was expected"):
        channel.receive_json()
    assert channel.peer_address() == channel.own_address() == "127.0.0.1"


def test_silence_and_absence_are_told_apart(line: tuple[Channel, socket.socket]) -> None:
    channel, far = line
    with pytest.raises(TimeoutError):
        channel.receive(timeout_s=0.1)
    far.close()
    with pytest.raises(ChannelClosed):
        channel.receive(timeout_s=1)


@pytest.mark.parametrize(
    "bytes_sent",
    [
        b"\x00\x00\x00\x05\x01" + b"12345",
        (MAX_JSON_BYTES + 100).to_bytes(4, "big") + b"\x01",
        b"GET / HTTP/1.1\r\n\r\n",
    ],
)
def test_garbage_on_the_line_is_one_error(line: tuple[Channel, socket.socket], bytes_sent: bytes) -> None:
    channel, far = line
    far.sendall(bytes_sent)
    with pytest.raises(WireError):
        channel.receive(timeout_s=1)
