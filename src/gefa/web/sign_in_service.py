"""Signing in with an account elsewhere: a service that speaks OpenID Connect (Core 1.0)."""

from __future__ import annotations

import logging
import secrets
import warnings
from collections.abc import AsyncIterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import httpx
from fastapi import Request
from joserfc.errors import JoseError
from starlette.middleware.sessions import SessionMiddleware
from starlette.responses import Response
from starlette.types import ASGIApp, Receive, Scope, Send

from gefa.core.errors import GefaError
from gefa.web.problems import Problem
from gefa.web.visitors import SIGN_IN

with warnings.catch_warnings(record=True):
    # It would rather have a successor of httpx, and says so at every start.
    from authlib.common.errors import AuthlibBaseError
    from authlib.integrations.starlette_client import OAuth

log = logging.getLogger("gefa.sign_in")
ACCOUNT = f"{SIGN_IN}/account"
SECONDS = 10.0
MAX_ANSWER = 1_000_000
"""bytes of an answer of the sign-in service"""
"""for each request to the service"""
STATE_SECONDS = 600
"""how long signing in there may take"""
_REASON = "gefa"


@dataclass(frozen=True)
class SignInService:
    """A service by its ``issuer`` (its address), our ``client_id`` and the secret. ``name`` is for
    people."""

    issuer: str
    client_id: str
    secret: str
    name: str = "your account"

    def check(self) -> None:
        """GefaError if it cannot work, or would receive secrets unencrypted."""
        local = self.issuer.startswith(("http://127.0.0.1", "http://localhost", "http://[::1]"))
        if not (self.issuer.startswith("https://") or local):
            raise GefaError(
                f"the sign-in service {self.issuer!r} is not an https address.",
                advice="Give its issuer with --sign-in-service, as https://…",
            )
        if not self.client_id or not self.secret:
            raise GefaError(
                "the sign-in service needs the id and the secret of this client.",
                advice="Set GEFA_SIGN_IN_CLIENT and GEFA_SIGN_IN_SECRET.",
            )

    @cached_property
    def _client(self) -> Any:
        return OAuth().register(
            "service",
            client_id=self.client_id,
            client_secret=self.secret,
            server_metadata_url=f"{self.issuer.rstrip('/')}/.well-known/openid-configuration",
            client_kwargs={
                "scope": "openid",
                "code_challenge_method": "S256",
                "timeout": SECONDS,
                "transport": _LimitedTransport(),
                # What is unpacked would have to be limited, too.
                "headers": {"Accept-Encoding": "identity"},
            },
        )

    async def begin(self, request: Request, back: str, reason: dict[str, str]) -> Response:
        """Redirect a person there; they return to ``back`` (an address of ours) with the
        ``reason``."""
        request.session[_REASON] = reason
        try:
            await self._check_issuer()
            answer: Response = await self._client.authorize_redirect(request, back)
        except (httpx.HTTPError, AuthlibBaseError, ValueError, KeyError, RuntimeError) as error:
            raise self._silent(error) from error
        return answer

    async def finish(self, request: Request) -> tuple[str, dict[str, str]]:
        """The account that a person returned with, and the reason they went. Problem if the service
        did not confirm it."""
        reason = request.session.pop(_REASON, None)
        if reason is None:
            raise Problem(
                400, "Sign in again", "That sign-in started in another browser, or too long ago."
            )
        try:
            await self._check_issuer()
            told = await self._client.authorize_access_token(request)
        except httpx.HTTPError as error:
            raise self._silent(error) from error
        except (AuthlibBaseError, JoseError, ValueError, KeyError, RuntimeError) as error:
            log.warning("%s did not sign somebody in: %s", self.issuer, error)
            raise Problem(
                403, "Not signed in", f"{self.issuer} did not sign you in. Try again."
            ) from error
        subject = (told.get("userinfo") or {}).get("sub")
        if not isinstance(subject, str) or not subject:
            raise Problem(502, "Not signed in", f"{self.issuer} does not say who you are.")
        return f"{self.issuer} {subject}", reason

    async def _check_issuer(self) -> None:
        # OpenID Connect Discovery 1.0, 4.3: what it calls itself must be what we asked.
        told = (await self._client.load_server_metadata()).get("issuer")
        if told != self.issuer:
            raise ValueError(f"it calls itself {told!r}")

    def _silent(self, error: Exception) -> Problem:
        log.warning("the sign-in service %s cannot be used: %s", self.issuer, error)
        return Problem(
            502,
            "The sign-in service does not answer",
            f"{self.issuer} is not available. Try again later, or use a passphrase.",
        )


class _LimitedTransport(httpx.AsyncHTTPTransport):
    """Refuses answers above MAX_ANSWER, and packed ones."""

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        answer = await super().handle_async_request(request)
        if answer.headers.get("content-encoding", "identity") != "identity":
            await answer.aclose()
            raise httpx.ReadError("the answer is packed, which nobody asked for", request=request)
        assert isinstance(answer.stream, httpx.AsyncByteStream)
        answer.stream = _LimitedStream(answer.stream)
        return answer


class _LimitedStream(httpx.AsyncByteStream):
    def __init__(self, stream: httpx.AsyncByteStream) -> None:
        self._stream = stream

    async def __aiter__(self) -> AsyncIterator[bytes]:
        come = 0
        async for piece in self._stream:
            come += len(piece)
            if come > MAX_ANSWER:
                raise httpx.ReadError(f"the answer has more than {MAX_ANSWER:,} bytes")
            yield piece

    async def aclose(self) -> None:
        await self._stream.aclose()


class AccountState:
    """ASGI middleware: the signed state in the browser while a person signs in elsewhere."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        secret = secrets.token_hex(32)
        self._by_scheme = {
            scheme: SessionMiddleware(
                app,
                secret,
                session_cookie="gefa-account",
                path=ACCOUNT,
                max_age=STATE_SECONDS,
                same_site="lax",
                https_only=scheme == "https",
            )
            for scheme in ("http", "https")
        }

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        app = self._app
        if scope["type"] == "http" and scope["path"].startswith(ACCOUNT):
            app = self._by_scheme.get(scope["scheme"], self._by_scheme["http"])
        await app(scope, receive, send)
