# A client of the desk by Authlib: finds it by its configuration, changes the code, and verifies the ID token.
import sys
from datetime import datetime
from urllib.parse import urlsplit

import requests
from authlib.integrations.requests_client import OAuth2Session
from authlib.jose import JsonWebToken
from authlib.oidc.core import CodeIDToken

issuer, front, redirect, verifier, answer, now = sys.argv[1:]
host = urlsplit(issuer).netloc


class ToFront(requests.adapters.HTTPAdapter):  # not every resolver knows names under localhost
    def send(self, request, **how):
        request.headers["Host"] = host
        request.url = request.url.replace(host, front)
        return super().send(request, **how)


session = OAuth2Session("planner", redirect_uri=redirect, scope="openid", state="from-python", code_challenge_method="S256", token_endpoint_auth_method="none")
session.mount("http://", ToFront())
found = session.get(issuer + "/.well-known/openid-configuration", withhold_token=True).json()
assert found["issuer"] == issuer
keys = session.get(found["jwks_uri"], withhold_token=True).json()
import os
os.environ["AUTHLIB_INSECURE_TRANSPORT"] = "1"
token = session.fetch_token(found["token_endpoint"], authorization_response=answer, code_verifier=verifier)
claims = JsonWebToken(["RS256"]).decode(token["id_token"], keys, claims_cls=CodeIDToken,
                                        claims_options={"iss": {"value": issuer}, "aud": {"value": "planner"}, "nonce": {"value": "n"}})
claims.validate(now=int(datetime.fromisoformat(now).timestamp()), leeway=0)
print(claims["sub"], claims["amr"])
