"""Hearing a device: over TCP, UDP and from a file that grows; rubbish, floods, cut sentences, kills."""

import os
import signal
import socket
import subprocess
import sys
import threading
import time

import pytest

from moss_step.demo.sounder import Sounder
from moss_step.formats.listening import Device, Listening
from moss_step.formats.nmea import heard, sentence
from moss_step.model.errors import MossError
from moss_step.practice.sounder import serve
from moss_step.study.recordings import keep_recording, new_recording, unkept_recordings

PLACE = sentence("GPGGA,120000,5200.0000,N,01600.0000,W,1,08,0.9,1,M,1,M,,")
DEPTH = sentence("SDDPT,5.0,0")
PATIENCE = 20.0


def until(asked, what):
    end = time.monotonic() + PATIENCE
    while not asked():
        assert time.monotonic() < end, what
        time.sleep(0.02)


def free_port(kind=socket.SOCK_STREAM):
    with socket.socket(socket.AF_INET, kind) as link:
        link.bind(("127.0.0.1", 0))
        return link.getsockname()[1]


def depths(ear):
    with ear.said() as said:
        return len(said.depths)


@pytest.fixture
def listen(tmp_path):
    ears = []

    def make(way="tcp", **where):
        ears.append(Listening(Device(way, **where), tmp_path / "heard" / f"{len(ears)}.nmea"))
        return ears[-1]

    yield make
    for ear in ears:
        ear.stop()


def test_the_practice_sounder_is_heard_and_all_of_it_stands_in_the_recording(listen):
    port = []
    threading.Thread(
        target=serve, args=(Sounder(), 0, lambda t: port.append(int(t.split("port ")[1].split(";")[0])), 500.0), daemon=True
    ).start()  # fmt: skip
    until(lambda: port, "the sounder told no port")
    ear = listen(port=port[0])
    until(lambda: depths(ear) > 60, "no depths came")
    assert "Listening to 127.0.0.1" in ear.state
    ear.stop()
    assert not ear.running
    again = heard([ear.recording.read_bytes()])
    with ear.said() as said:
        assert again.depths[: len(said.depths)] == said.depths and again.wrong >= said.wrong > 0


def test_a_device_that_comes_later_hangs_up_in_a_sentence_and_comes_back(listen):
    port = free_port()
    ear = listen(port=port)
    until(lambda: "does not answer" in ear.state, "it said nothing of the silence")
    with socket.create_server(("127.0.0.1", port)) as server:
        first, _ = server.accept()
        first.sendall((PLACE + DEPTH + "$SDDPT,7.").encode())
        first.close()
        second, _ = server.accept()
        second.sendall((PLACE + sentence("SDDPT,6.0,0")).encode())
        until(lambda: depths(ear) == 2, "it did not come back")
        second.close()
    with ear.said() as said:
        assert [d.depth for d in said.depths] == [5.0, 6.0] and said.wrong == 1


def test_silence_leaves_nothing_in_the_recording(listen):
    ear = listen(port=free_port())
    until(lambda: "does not answer" in ear.state, "it said nothing of the silence")
    time.sleep(1.5)
    ear.stop()
    assert ear.bytes == 0 and ear.recording.read_bytes() == b""


def test_packets_are_heard(listen):
    port = free_port(socket.SOCK_DGRAM)
    ear = listen("udp", port=port)
    until(lambda: "Listening on" in ear.state, "it never began")
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as link:
        for text in (PLACE + DEPTH, "rubbish", PLACE.strip(), sentence("SDDPT,8.0,0").strip()):
            link.sendto(text.encode(), ("127.0.0.1", port))
    until(lambda: depths(ear) == 2, "packets were lost")


def test_a_port_that_another_has_taken_ends_it_in_words(listen):
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as link:
        link.bind(("127.0.0.1", 0))
        ear = listen("udp", port=link.getsockname()[1])
        until(lambda: not ear.running, "it goes on")
    assert "cannot be used" in ear.state


def test_a_file_that_grows_is_read_on(listen, tmp_path):
    path = tmp_path / "log.txt"
    path.write_text(PLACE + DEPTH)
    ear = listen("file", file=path)
    until(lambda: depths(ear) == 1, "what stood there was not read")
    with path.open("a") as file:
        file.write(PLACE.replace("*", "*", 1) + sentence("SDDPT,9.0,0"))
    until(lambda: depths(ear) == 2, "what was added was not read")


def test_a_file_that_is_not_there_and_a_folder_that_cannot_be_written_are_refused(tmp_path):
    with pytest.raises(MossError, match="not found"):
        Listening(Device("file", file=tmp_path / "no.txt"), tmp_path / "a.nmea")
    (tmp_path / "in the way").write_text("")
    with pytest.raises(MossError):
        Listening(Device("tcp"), tmp_path / "in the way" / "a.nmea")
    (tmp_path / "b.nmea").write_text("an older one")
    with pytest.raises(MossError, match="cannot be written"):
        Listening(Device("tcp"), tmp_path / "b.nmea")
    assert (tmp_path / "b.nmea").read_text() == "an older one"


def test_rubbish_and_floods_do_no_harm(listen):
    """Eight megabytes without an end of line, all bytes there are, then a depth: it is heard, memory stays small."""
    port = free_port()
    with socket.create_server(("127.0.0.1", port)) as server:
        ear = listen(port=port)
        link, _ = server.accept()
        for _ in range(128):
            link.sendall(b"\xff" * 65_536)
        link.sendall(bytes(range(256)) * 100 + b"\n" + (PLACE + DEPTH).encode())
        until(lambda: depths(ear) == 1, "the depth after the flood was not heard")
        link.close()
    ear.stop()
    assert ear.recording.stat().st_size > 8_000_000


def test_a_disk_that_is_full_ends_it_in_words(listen, monkeypatch):
    port = free_port()
    with socket.create_server(("127.0.0.1", port)) as server:
        ear = listen(port=port)
        link, _ = server.accept()

        class Full:
            def write(self, piece):
                raise OSError(28, "No space left on device")

            def fileno(self):
                return ear_out.fileno()

            def close(self):
                ear_out.close()

        ear_out = ear._out
        monkeypatch.setattr(ear, "_out", Full())
        link.sendall(PLACE.encode())
        until(lambda: not ear.running, "it goes on")
        link.close()
    assert "No space left" in ear.state


def test_what_was_heard_outlives_a_kill(tmp_path):
    """The program is killed in the middle: each byte that was taken stands in the recording, which is offered."""
    port = free_port()
    code = (
        "import sys, time, pathlib\n"
        "from moss_step.formats.listening import Device, Listening\n"
        "from moss_step.study.recordings import new_recording\n"
        f"ear = Listening(Device('tcp', port={port}), new_recording(pathlib.Path({str(tmp_path)!r})))\n"
        "while True:\n"
        "    time.sleep(0.01)\n"
        "    with ear.said() as said:\n"
        "        print(len(said.depths), flush=True)\n"
    )
    with socket.create_server(("127.0.0.1", port)) as server:
        with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True) as child:
            link, _ = server.accept()
            for k in range(50):
                link.sendall((PLACE + sentence(f"SDDPT,{k}.5,0")).encode())
            while int(child.stdout.readline()) < 50:
                pass
            assert unkept_recordings(tmp_path) == [], "its program still runs"
            child.send_signal(signal.SIGKILL)
        link.close()
    (left,) = unkept_recordings(tmp_path)
    assert len(heard([left.read_bytes()]).depths) == 50
    keep_recording(left)
    assert unkept_recordings(tmp_path) == [] and left.exists()


def test_two_that_begin_in_one_second_have_names_of_their_own(tmp_path):
    first, second = new_recording(tmp_path), new_recording(tmp_path)
    assert first != second and os.fspath(first).endswith(".nmea")
    assert unkept_recordings(tmp_path) == []
