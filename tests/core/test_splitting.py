"""A recorder's file of many channels as a file each: samples to the bit, names from iXML.

Published: iXML specification 3.01 (TRACK_LIST); EBU Tech 3306 (RF64).
"""

import numpy as np
import soundfile as sf

from core.audio.files import AudioError
from core.audio.splitting import channel_names, samples_since_midnight, split
from tests.core.test_listening import Folder

IXML = """<?xml version="1.0" encoding="UTF-8"?><BWFXML><IXML_VERSION>3.01</IXML_VERSION><TRACK_LIST>
<TRACK_COUNT>3</TRACK_COUNT><TRACK><CHANNEL_INDEX>1</CHANNEL_INDEX><INTERLEAVE_INDEX>1</INTERLEAVE_INDEX>
<NAME>Kick</NAME></TRACK><TRACK><CHANNEL_INDEX>3</CHANNEL_INDEX><NAME>Räume &amp; more</NAME></TRACK>
<TRACK><CHANNEL_INDEX>9</CHANNEL_INDEX><NAME>nobody</NAME></TRACK></TRACK_LIST></BWFXML>"""


class Splitting(Folder):
    def file(self, name="take.wav", subtype="PCM_24", channels=4, **more):
        sound = np.random.default_rng(1).integers(-(2**23), 2**23, (9000, channels)) / 2**23
        path = self.folder / name
        sf.write(path, sound, 48_000, subtype, **more)
        return path

    def with_ixml(self, path):
        data = bytearray(path.read_bytes())
        body = IXML.encode()
        data += b"iXML" + len(body).to_bytes(4, "little") + body + b"\0" * (len(body) % 2)
        data[4:8] = (len(data) - 8).to_bytes(4, "little")
        path.write_bytes(data)
        return path

    def test_every_sample_is_the_same(self):
        for name, subtype, more in (
            ("a.wav", "PCM_24", {}),
            ("b.wav", "PCM_16", {}),
            ("c.wav", "FLOAT", {}),
            ("d.wav", "PCM_24", {"format": "RF64"}),
            ("e.flac", "PCM_24", {}),
            ("f.aiff", "PCM_24", {}),
        ):
            with self.subTest(name):
                path = self.file(name, subtype, **more)
                whole = sf.read(path, always_2d=True)[0]
                for k, one in enumerate(split(path, self.folder)):
                    info = sf.info(one)
                    self.assertEqual((info.channels, info.subtype, info.samplerate), (1, subtype, 48_000))
                    np.testing.assert_array_equal(sf.read(one)[0], whole[:, k])

    def test_channels_are_called_what_the_recorder_called_them(self):
        self.assertEqual(channel_names(self.with_ixml(self.file()), 4), ["Kick", "2", "Räume & more", "4"])
        self.assertEqual(channel_names(self.file(), 4), ["1", "2", "3", "4"])
        self.assertEqual(channel_names(self.file("x.flac"), 4), ["1", "2", "3", "4"])

    def test_when_it_starts_by_its_ixml(self):
        path = self.with_ixml(self.file())
        self.assertIsNone(samples_since_midnight(path))
        stamp = b"<SPEED><TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI>1</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI>"
        stamp += b"<TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>77</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO></SPEED>"
        body = IXML.encode().replace(b"</BWFXML>", stamp + b"</BWFXML>")
        data = bytearray(self.file("y.wav").read_bytes()) + b"iXML" + len(body).to_bytes(4, "little") + body
        path.write_bytes(data + b"\0" * (len(body) % 2))
        self.assertEqual(samples_since_midnight(path), (1 << 32) + 77)
        self.assertIsNone(samples_since_midnight(self.file("plain.wav")))

    def test_a_damaged_list_of_names_counts_as_none(self):
        path = self.with_ixml(self.file())
        data = path.read_bytes().replace(b"</TRACK>", b"<TRACK>>")
        path.write_bytes(data)
        self.assertEqual(channel_names(path, 4), ["1", "2", "3", "4"])

    def test_what_is_no_audio_is_told(self):
        path = self.folder / "x.wav"
        path.write_bytes(b"RIFF nothing")
        with self.assertRaises(AudioError):
            split(path, self.folder)
