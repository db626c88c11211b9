"""A mail server with TLS and sign-in, and a receiver of webhooks, by implementations that are not ours.

Writes one JSON document a line: first where it listens, then what came. Webhooks are verified as RFC 9421 has it, and
read as CloudEvents. Paths: /takes answers 200, /fails 503 the first two times, /hangs nothing for a while.
"""

import datetime
import email
import email.policy
import ipaddress
import json
import socket
import ssl
import sys
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult, LoginPassword
from cloudevents.http import from_http
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from http_message_signatures import HTTPMessageVerifier, HTTPSignatureKeyResolver, algorithms

FOLDER, SECRET = sys.argv[1], sys.argv[2].encode()
LOCK = threading.Lock()


def say(document):
    with LOCK:
        print(json.dumps(document), flush=True)


def certificate():
    """A certificate of this machine, which the service is told to trust."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "post.skerry.example")])
    now = datetime.datetime.now(datetime.timezone.utc)
    names = x509.SubjectAlternativeName([x509.DNSName("localhost"), x509.IPAddress(ipaddress.ip_address("127.0.0.1"))])
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(hours=1))
        .not_valid_after(now + datetime.timedelta(days=1))
        .add_extension(names, critical=False)
        .sign(key, hashes.SHA256())
    )
    path = f"{FOLDER}/certificate.pem"
    with open(path, "wb") as file:
        file.write(made.public_bytes(serialization.Encoding.PEM))
    with open(f"{FOLDER}/key.pem", "wb") as file:
        pem, pkcs = serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8
        file.write(key.private_bytes(pem, pkcs, serialization.NoEncryption()))
    return path


class Mails:
    async def handle_DATA(self, server, session, envelope):
        mail = email.message_from_bytes(envelope.content, policy=email.policy.default)
        parts = {part.get_content_type(): part.get_content() for part in mail.walk() if not part.is_multipart()}
        say({"mail": {
            "to": envelope.rcpt_tos, "subject": mail["subject"], "from": mail["from"], "id": mail["message-id"],
            "headers": sorted({name.lower() for name in mail.keys()}), "defects": [str(each) for each in mail.defects],
            "text": parts.get("text/plain", ""), "html": parts.get("text/html", ""),
        }})
        return "250 taken"


def signs_in(server, session, envelope, mechanism, data):
    is_known = isinstance(data, LoginPassword) and (data.login, data.password) == (b"purser", b"low tide")
    return AuthResult(success=is_known)


class Keys(HTTPSignatureKeyResolver):
    def resolve_public_key(self, key_id):
        return SECRET


class Hooks(BaseHTTPRequestHandler):
    tries = 0

    def do_POST(self):
        body = self.rfile.read(int(self.headers["content-length"]))
        self.url = f"http://{self.headers['host']}{self.path}"
        self.method = "POST"
        verifier = HTTPMessageVerifier(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=Keys())
        try:
            found = verifier.verify(self, max_age=datetime.timedelta(minutes=5))
            covered = [str(name) for name in found[0].covered_components]
            digest = self.headers["content-digest"]
            event = from_http(dict(self.headers), body)
            came = {"covered": covered, "digest": digest, "id": event["id"], "type": event["type"],
                    "source": event["source"], "subject": event.get("subject"), "data": event.data}
        except Exception as error:
            came = {"error": f"{type(error).__name__}: {error}"}
        say({"hook": self.path, **came})
        if self.path.startswith("/hangs"):
            time.sleep(30)
        if self.path.startswith("/fails"):
            Hooks.tries += 1
            if Hooks.tries <= 2:
                self.send_response(503)
                self.end_headers()
                return
        self.send_response(200)
        self.send_header("content-length", "0")
        self.end_headers()

    def log_message(self, *_):
        pass


trusted = certificate()
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(trusted, f"{FOLDER}/key.pem")
hooks = ThreadingHTTPServer(("127.0.0.1", 0), Hooks)
with socket.socket() as free:
    free.bind(("127.0.0.1", 0))
    mail_port = free.getsockname()[1]
mails = Controller(
    Mails(), hostname="127.0.0.1", port=mail_port, ssl_context=context, authenticator=signs_in, auth_required=True,
    auth_require_tls=False,
)
mails.start()
say({"mail_port": mail_port, "hook_port": hooks.server_port, "certificate": trusted})
hooks.serve_forever()
