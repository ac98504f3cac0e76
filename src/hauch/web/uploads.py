"""Uploads are stopped while they come in, before anything of them is used."""

from __future__ import annotations

from django.core.files.uploadhandler import FileUploadHandler, StopUpload

from hauch.formats.logger_csv import MOST_BYTES


class LimitedUploadHandler(FileUploadHandler):
    """Stops reading an upload that is larger than any format takes, and leaves word on the request."""

    def handle_raw_input(self, input_data, META, content_length, boundary, encoding=None):
        """Note the announced size; the form says what is wrong with it."""
        self.request.upload_too_large = content_length > MOST_BYTES + 1_000_000

    def receive_data_chunk(self, raw_data: bytes, start: int) -> bytes:
        """Pass data on to the next handler, or stop when the upload is too large."""
        if getattr(self.request, "upload_too_large", False):
            raise StopUpload(connection_reset=False)
        return raw_data

    def file_complete(self, file_size: int) -> None:
        """Leave the file to the next handler."""
