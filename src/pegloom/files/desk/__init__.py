"""A capture desk: a device that sends the frames of a performer's joints over loopback, in packets of Open Sound Control 1.0.

`osc` is the standard's own part, `packets` what ours say (docs/capture.md), `listener` hears them, `simulated` is the small
stand-in that ships.
"""

from pegloom.files.desk.listener import HOST, PORT, Heard, Listener
from pegloom.files.desk.packets import Body, Frame, body_packet, frame_packet, read_packet

__all__ = ["HOST", "PORT", "Body", "Frame", "Heard", "Listener", "body_packet", "frame_packet", "read_packet"]
