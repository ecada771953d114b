"""What the management API takes about signing in by a source."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.asked import Given, PageQuery, Text
from dravo.web.api.base import Model


class ProviderFields(Given):
    """What is known of a SAML provider, by hand; what is left out stays, an empty one is taken away."""

    entity_id: Text | None = None
    sign_in: Text | None = Field(None, description="The address for signing in.")
    sign_out: Text | None = Field(None, description="The address for signing out.")
    certificates: str | None = Field(None, max_length=100_000, description="PEM or bare base64, with or without header lines, several at once.")


class SignInSettingsBody(Given):
    """How people sign in; what is left out stays as it is."""

    protocol: Literal["saml", "oidc", "mail"] | None = Field(None, description="The first time.")
    serves: Literal["people", "operators", "both"] | None = Field(None, description="Whom it lets in; operators only by a chief's word.")
    settings: dict[str, str | bool | int] | None = None
    secret: str | None = Field(None, max_length=5_000, description="Our client secret (OpenID Connect); kept encrypted; an empty one takes it away.")
    policy: dict[str, Any] | None = Field(None, description="Answers to the five questions, as for reading.")
    metadata: str | None = Field(None, max_length=2_000_000, description="The provider's metadata itself.")
    fields: ProviderFields | None = None
    look: bool = Field(False, description="Fetch what is at the address now.")


class StateBody(Given):
    """For whom signing in is in force."""

    state: Literal["off", "pilot", "everybody"]
    everybody_at: str | None = Field(None, max_length=40, description="The instant from which on it is in force for everybody.")
    confirm: Text | None = Field(None, description="The source's label, typed: where nobody has come through the settings yet.")


class KeysBody(Given):
    """How our key changes."""

    what: Literal["next", "use"] = Field(description="'next' makes one that the provider is told of; 'use' has it sign from now on.")


class TrialBody(Given):
    """A trial."""

    person: Text = Field(description="Who will try: their user name or e-mail.")
    mode: Literal["observe", "for real"] = "observe"
    minutes: int = Field(30, ge=1, le=1_440)


class TracesQuery(PageQuery):
    """Which traces."""

    outcome: Literal["in", "observed", "refused"] | None = None
    trial: str | None = Field(None, max_length=36)
    q: str | None = Field(None, max_length=200, description="A part of the name or of what is wrong.")


class PlanAgainBody(Given):
    """With which answers a kept trace is planned again; empty: with those that are kept."""

    policy: dict[str, Any] = {}


class ClaimedQuery(Model):
    """Which claimed groups."""

    q: str = Field("", max_length=200, description="A part of the name.")


class ClaimedGroupBody(Given):
    """A group as claims name it."""

    name: Text


class SignInTracePath(Model):
    """A trace of a source."""

    key: str
    trace: str


class WhereQuery(Model):
    """Whose sign-in page is asked for."""

    email: str = Field("", max_length=300)


class AskCodeBody(Given):
    """Who asks for a code, and to which page they go on."""

    email: Text
    trial: str | None = Field(None, max_length=100, description="The secret of a trial's link.")
    source: str | None = Field(None, max_length=64, description="The key of the source, where several own the domain.")
    back: str | None = Field(None, max_length=500)


class GiveCodeBody(Given):
    """A code that came by mail; whoever is new says their names."""

    state: str = Field(max_length=100)
    code: str = Field(max_length=40)
    given_name: str = Field("", max_length=100)
    family_name: str = Field("", max_length=100)


class MailBody(Given):
    """By which server mail goes; what is left out stays. An empty host: no mail is sent."""

    host: str | None = Field(None, max_length=253)
    port: int | None = Field(None, ge=1, le=65_535)
    security: Literal["none", "starttls", "tls"] | None = None
    user: str | None = Field(None, max_length=300)
    password: str | None = Field(None, max_length=1_000, description="Kept encrypted; an empty one takes it away.")
    sender: str | None = Field(None, max_length=320)


class TestMailBody(Given):
    """To whom a test goes."""

    to: str = Field(max_length=320)
