"""A small OpenID Connect provider for tests: everybody who comes is whoever ``subject`` says."""

from __future__ import annotations

import base64
import hashlib
import json
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

from joserfc import jwt
from joserfc.jwk import RSAKey

CLIENT, SECRET = "gefa-tests", "a secret of tests"


class Provider:
    """``claims`` are put over the true ones; ``down`` answers 500 to everything;
    ``padding`` spaces lie around each answer."""

    def __init__(self, url: str) -> None:
        self.url = url
        self.subject = "ada-17"
        self.claims: dict[str, Any] = {}
        self.issuer = url
        self.down = False
        self.padding = 0
        self.key = RSAKey.generate_key(2048, parameters={"kid": "one"})
        self.signing_key = self.key
        self._codes: dict[str, dict[str, str]] = {}

    def metadata(self) -> dict[str, Any]:
        return {
            "issuer": self.issuer,
            "authorization_endpoint": f"{self.url}/authorize",
            "token_endpoint": f"{self.url}/token",
            "jwks_uri": f"{self.url}/keys",
            "response_types_supported": ["code"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["RS256"],
        }

    def authorize(self, asked: dict[str, str]) -> str:
        assert asked["response_type"] == "code"
        assert asked["code_challenge_method"] == "S256"
        code = f"code-{len(self._codes)}"
        self._codes[code] = asked
        return f"{asked['redirect_uri']}?{urlencode({'code': code, 'state': asked['state']})}"

    def token(self, sent: dict[str, str], authorization: str) -> dict[str, Any]:
        asked = self._codes.pop(sent["code"])
        challenge = hashlib.sha256(sent["code_verifier"].encode()).digest()
        assert base64.urlsafe_b64encode(challenge).rstrip(b"=").decode() == asked["code_challenge"]
        assert (
            base64.b64decode(authorization.removeprefix("Basic ")).decode() == f"{CLIENT}:{SECRET}"
        )
        now = int(time.time())
        claims = {
            "iss": self.url,
            "aud": CLIENT,
            "sub": self.subject,
            "iat": now,
            "exp": now + 60,
            "nonce": asked["nonce"],
            **self.claims,
        }
        signed = jwt.encode({"alg": "RS256", "kid": "one"}, claims, self.signing_key)
        return {"access_token": "x", "token_type": "Bearer", "id_token": signed}


@contextmanager
def provider() -> Iterator[Provider]:
    """One that runs as long as the block."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            address = urlsplit(self.path)
            if running.down:
                self._answer({}, 500)
            elif address.path == "/.well-known/openid-configuration":
                self._answer(running.metadata())
            elif address.path == "/keys":
                self._answer({"keys": [running.key.as_dict(private=False)]})
            else:
                asked = {name: values[0] for name, values in parse_qs(address.query).items()}
                self.send_response(302)
                self.send_header("Location", running.authorize(asked))
                self.end_headers()

        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["Content-Length"])).decode()
            sent = {name: values[0] for name, values in parse_qs(body).items()}
            self._answer(running.token(sent, self.headers.get("Authorization", "")))

        def _answer(self, told: dict[str, Any], status: int = 200) -> None:
            data = json.dumps(told).encode() + b" " * running.padding
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(data)))
            self.end_headers()
            self.wfile.write(data)

        def log_message(self, *_: Any) -> None: ...

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    running = Provider(f"http://127.0.0.1:{server.server_port}")
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield running
    server.shutdown()
    server.server_close()
