"""Uploads are stopped while they come in, before anything of them is used."""

from __future__ import annotations

from django.core.files.uploadhandler import FileUploadHandler, StopUpload

from hauch.site.limits import most_bytes


class LimitedUploadHandler(FileUploadHandler):
    """Stops reading an upload that is larger than its address takes, and leaves word on the request."""

    def handle_raw_input(self, input_data, META, content_length, boundary, encoding=None):
        """Note the announced size; the form says what is wrong with it."""
        self.request.upload_too_large = (  # type: ignore[union-attr]
            content_length > most_bytes(self.request.path, known=True)  # type: ignore[union-attr]
        )

    def receive_data_chunk(self, raw_data: bytes, start: int) -> bytes:
        """Pass data on to the next handler, or stop when the upload is too large."""
        if getattr(self.request, "upload_too_large", False):
            # The server has the whole body already (ASGI), so nobody waits for the rest; reading it
            # to its end would go line by line, minutes for a file of short lines.
            raise StopUpload(connection_reset=True)
        return raw_data

    def file_complete(self, file_size: int) -> None:
        """Leave the file to the next handler."""
