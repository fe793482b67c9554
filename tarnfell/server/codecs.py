"""What calls can be made of: codecs, and profiles of video."""

from __future__ import annotations

from flask import Blueprint

from tarnfell.core.codecs import Codec, codec_table
from tarnfell.core.video import video_profiles
from tarnfell.server.api import endpoint
from tarnfell.server.models.brief import VideoProfileView
from tarnfell.server.models.calls import CodecList, CodecView

blueprint = Blueprint("codecs", __name__)


@endpoint(blueprint, "GET", "/api/codecs", response=CodecList)
def list_codecs() -> CodecList:
    """The codecs calls can be placed with, and the profiles of video beside them."""
    return CodecList(
        codecs=[codec_view(codec) for codec in codec_table().values()],
        video_profiles=[VideoProfileView.model_validate(p) for p in video_profiles().values()],
    )


def codec_view(codec: Codec) -> CodecView:
    intervals = codec.intervals_ms()
    return CodecView(
        name=codec.name,
        title=codec.title,
        intervals_ms=intervals,
        payload_bytes=[codec.payload_bytes(p) for p in intervals],
        ie=codec.ie,
        bpl=codec.bpl,
        standing=codec.standing,
        source=codec.source,
    )
