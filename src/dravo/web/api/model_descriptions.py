"""Descriptions of fields whose meaning depends on their model, by model and field."""

from __future__ import annotations

_USERS_WITH_ACCESS = "Number of users with access."
_GAINED = {
    "gained": "Number of users who gain access.",
    "lost": "Number of users who lose access.",
    "changed": "Number of users who change roles.",
}
_OPERATOR = {
    "id": "ID of the operator.",
    "name": "Name with which the operator signs in.",
    "kind": "Kind of operator, such as administrator or auditor.",
    "applications": "Keys of the applications of an application owner.",
}
_SCIM_REQUEST = {
    "id": "ID of the request.",
    "outcome": "What Dravo did, in a sentence.",
    "status": "HTTP status of the response.",
    "subject": "The user or group of the request, or null.",
}
_SIGN_IN = {
    "id": "ID of the sign-in.",
    "name": "Name or address of the user, as far as known.",
    "outcome": "Outcome: signed_in, observed or refused.",
    "user": "ID of the user who signed in, or null.",
}
_TASK = {
    "id": "ID of the task.",
    "application": "The application to which the change is sent.",
    "user": "The user of the account.",
    "kind": "Kind of error, or null.",
    "status": "Status: waiting, failed, held, done or discarded.",
    "version": "Version of the desired state that the task sends.",
}
_ACCOUNT = {
    "id": "ID of the account.",
    "user": "The user of the account.",
    "application": "The application of the account.",
    "roles": "Roles that the account should have.",
    "status": "Status: in_sync, pending, waiting, failed, held or unmanaged.",
}
_TOKEN = {"id": "ID of the token.", "label": "Purpose of the token."}
_GROUP = {
    "id": "ID of the group.",
    "name": "Name of the group.",
    "source": "The source that reports the group; null for a local group.",
    "members": "Number of direct members.",
}
_RUN = {"id": "ID of the run.", "status": "Status: waiting, running, done, held, stopped or failed."}

MODELS: dict[str, dict[str, str]] = {
    "Access": {
        "id": "ID of the access.",
        "application": "The application of the role.",
        "role": "The role of the user.",
        "since": "Time from which the user has the role.",
        "user": "The user who has the role.",
    },
    "AccessDifference": {
        "at": "Time of the change.",
        "id": "ID of the difference.",
        "application": "The application in which the roles differ.",
        "user": "The user whose roles differ.",
        "what": "What happened: joined, left or changed.",
    },
    "AccessExplanation": {"application": "The explained application.", "user": "The explained user."},
    "Account": _ACCOUNT,
    "AccountDetail": _ACCOUNT,
    "ActivityLine": {
        "at": "Time of the event.",
        "id": "ID of the event.",
        "application": "The application concerned, or null.",
        "kind": "Kind of event: request, run, task, reconciliation or change.",
        "outcome": "Result of the event.",
        "source": "The source concerned, or null.",
        "user": "The user concerned, or null.",
        "what": "What happened, in words.",
    },
    "ActivityUser": {
        "id": "ID of the user.",
        "name": "Display name of the user.",
    },
    "ApiToken": _TOKEN,
    "Application": {
        "accounts": "Number of accounts.",
        "label": "Label of the application.",
        "roles": "Roles of the application, the highest first.",
        "settings": "Provisioning settings.",
        "status": "Status: tracked_only, not_set_up, paused, disabled, not_answering or ok.",
        "users": _USERS_WITH_ACCESS,
    },
    "ApplicationLine": {
        "accounts": "Number of accounts.",
        "label": "Label of the application.",
        "status": "Status: tracked_only, not_set_up, paused, disabled, not_answering or ok.",
        "users": _USERS_WITH_ACCESS,
    },
    "Assignment": {
        "id": "ID of the assignment.",
        "application": "The application of the role.",
        "group": "The group that gets the role, or null.",
        "kind": "For whom: user, group, rule, pattern or everyone.",
        "role": "The assigned role; null for an exclusion or eligibility only.",
        "source": "The source of the group, pattern or rule, or null.",
        "user": "The user who gets the role, or null.",
    },
    "Attempt": {
        "outcome": "Result of the attempt, such as done, failed or waiting.",
    },
    "AuditEntry": {
        "at": "Time of the change.",
        "id": "Number of the entry.",
        "operator": "The operator who made the change.",
    },
    "AuditObject": {"id": "ID of the changed object.", "kind": "Kind of the changed object."},
    "BulkLine": {
        "number": "Line number in the pasted text, from 1.",
        "status": "Whether the assignment is new, exists already, or the line is invalid.",
        "message": "What is wrong with the line; empty if nothing.",
    },
    "CheckStep": {
        "name": "What the step checks.",
        "outcome": "Result: ok, failed, skipped or pending.",
        "message": "Result of the step in a sentence.",
    },
    "ChecklistTrouble": {
        "at": "Time of the last problem.",
    },
    "ChecklistValue": {
        "name": "Name of the field at the identity provider.",
        "value": "Value to enter there.",
    },
    "ClaimedGroup": {
        "outcome": "What happens to the group: existing, created or ignored.",
    },
    "ClaimedGroupRequest": {
        "name": "Name of the group as the provider sends it.",
    },
    "CodeResult": {
        "outcome": "Outcome: signed_in, observed or refused.",
    },
    "CodeSent": {"source": "Label of the source through which the user signs in."},
    "ComparedApplication": {"application": "The application in which both users are compared."},
    "Compared": {
        "applications": "Applications in which one of the users has a role.",
        "groups": "Groups of one or both users.",
        "users": "Both users.",
    },
    "ConfirmedPreview": _GAINED,
    "ConflictDecisionRequest": {
        "decision": "What to do with the record.",
    },
    "Connector": {"label": "Name of the connector.", "settings": "Settings of the connector."},
    "ConnectorSetting": {
        "kind": "Kind of value: text, lines, switch or choice.",
        "label": "Label of the setting.",
        "name": "Name of the setting.",
    },
    "CreateAssignmentRequest": {
        "application": "Key of the application.",
        "until": "Last day (included), or a time; null for no end.",
    },
    "CreateOperatorRequest": {
        "kind": "Kind of operator; it decides about the permissions.",
        "name": "Name with which the operator signs in.",
    },
    "CredentialsRequest": {
        "kind": "Authentication method.",
    },
    "DecisionRequest": {
        "decision": "Decision for the selected rows.",
    },
    "DriftLine": {
        "id": "ID of the difference.",
        "kind": "Kind of difference, such as missing, attributes or role.",
        "name": "Name of the user or group.",
        "status": "Status: open, repairing, repaired or ignored.",
        "user": "ID of the user, or null.",
    },
    "DriftRequest": {
        "ids": "IDs of the differences to repair.",
    },
    "Exchange": {
        "status": "HTTP status of the response, or null without a response.",
    },
    "FileRequest": {
        "name": "Name of the file.",
    },
    "Flow": {
        "at": "Time of the count; null before the first one.",
    },
    "FlowNode": {
        "id": "ID of the node.",
        "application": "Key of the application of a role, or null.",
        "kind": "Kind of the object at this place.",
        "label": "Label of the node.",
        "users": "Number of users at this place.",
    },
    "FlowBand": {"users": "Number of users on this path."},
    "Group": _GROUP,
    "GroupDetail": _GROUP,
    "GroupInClaims": {
        "name": "Name of the group.",
    },
    "GroupMadeAhead": {
        "id": "ID of the new group.",
        "name": "Name of the new group.",
    },
    "GroupNameRequest": {
        "name": "Name of the group.",
    },
    "GroupNearby": {
        "id": "ID of the group.",
        "name": "Name of the group.",
    },
    "GroupOver": {
        "name": "Name of the group in the application, if it differs.",
    },
    "GroupRef": {
        "id": "ID of the group.",
        "name": "Name of the group.",
    },
    "HoldItem": {
        "application": "The application whose removals are held.",
        "number": "Number of held removals.",
        "since": "Time of the first held removal.",
        "users": "The first users whose access would be removed.",
    },
    "IgnoreRequest": {
        "ids": "IDs of the differences to ignore.",
    },
    "ImportCheckStep": {
        "name": "What the step checks.",
        "outcome": "Result: ok, failed, skipped or warning.",
        "message": "Result of the step in a sentence.",
    },
    "ImportRun": _RUN,
    "MadeGroup": {
        "name": "Name of the group.",
    },
    "MatrixGroup": {
        "id": "ID of the group.",
        "name": "Name of the group.",
    },
    "OpenTask": {
        "id": "ID of the task.",
        "status": "Status: waiting, failed or held.",
    },
    "OperatorLink": {
        "id": "ID of the link.",
        "status": "Status of sign-in at the source: disabled, pilot or enabled.",
    },
    "OwnApplication": {
        "since": "Time from which the user has access.",
    },
    "PatternGroup": {
        "outcome": "Result for the group: gives, unknown_role or needs_confirmation.",
    },
    "Plan": {
        "status": "Whether seats are free, running short or all taken (full).",
    },
    "PlannedSignIn": {
        "kind": "Kind of problem, or empty.",
        "outcome": "Outcome: signed_in, observed or refused.",
    },
    "PolicyPreviewGroup": {
        "id": "ID of the group.",
        "name": "Name of the group.",
    },
    "PolicyPreviewUser": {
        "name": "Name of the user in the source.",
        "outcome": "What would happen to the user.",
    },
    "PolicyRequest": {
        "fallback_role": "Key of the fallback role.",
    },
    "PossibleUser": {
        "id": "ID of the user.",
        "status": "Status: active, inactive or left.",
    },
    "ProvisionedGroupRequest": {
        "name": "Name of the group in the application, if it differs.",
    },
    "RetryRequest": {
        "kind": "Only tasks with this kind of error.",
    },
    "RoleEncodingRequest": {
        "value": "Whether the key or the label of the role is sent.",
    },
    "RolesAs": {
        "value": "Whether the key or the label of the role is sent.",
    },
    "Run": _RUN,
    "ImportRunEntry": {
        "id": "ID of the entry.",
        "kind": "Result: new, changed, left, refused, conflict or missing.",
        "name": "Name of the user or group.",
        "user": "ID of the user, or null.",
    },
    "ImportSettings": {
        "kind": "Key of the connector.",
        "label": "Name of the connector.",
        "settings": "Settings of the connector.",
    },
    "MatchingUsers": {"users": "The first matching users by name."},
    "MatrixUser": {
        "id": "ID of the user.",
        "roles": "Roles by key of the application.",
        "since": "Time since when the user has this status.",
        "status": "Status: active, inactive or left.",
    },
    "NewApiToken": _TOKEN,
    "NewScimToken": _TOKEN,
    "NewOperator": _OPERATOR,
    "Operator": _OPERATOR,
    "Overview": {"groups": "Number of groups.", "stages": "Numbers of each stage of the work."},
    "PolicyPreview": {
        "groups": "Groups of the source, with whether the policy accepts each.",
        "looked_at": "Number of evaluated users.",
    },
    "RunCount": {
        "name": "What is counted.",
        "number": "Number of results.",
    },
    "SampleAttribute": {
        "name": "Name of the attribute in the source.",
        "values": "Some of its values.",
    },
    "SampleUser": {
        "name": "Name of the user in the source.",
    },
    "SchemaRequest": {
        "kind": "Resource type that the schema extends.",
    },
    "SeatOf": {
        "since": "Time from which the user has the seat; null on the waiting list.",
    },
    "SecondFactor": {
        "since": "Time when the second factor was set up, or null.",
    },
    "Session": {
        "kind": "Kind of operator that you are.",
        "name": "Name with which you signed in.",
    },
    "SettingRequest": {
        "value": "New value of the setting.",
    },
    "SignIn": {
        "looked_at": "Time of the last fetch of the provider's metadata, or null.",
        "settings": "Sign-in settings.",
        "source": "The source through which users sign in.",
        "status": "Status: disabled, pilot or enabled.",
    },
    "Preview": {
        **_GAINED,
        "accounts": "Number of accounts that change.",
        "seats": "License plans of which users would need a seat.",
        "users": "The first users whose roles change.",
    },
    "PreviewUser": {
        "application": "The application in which the roles change.",
        "user": "The user whose roles change.",
        "what": "What changes: gained, lost or changed.",
    },
    "Problem": {"code": "Code of the error for programs."},
    "CodeRequest": {"code": "Code from the authenticator app."},
    "RenewCodesRequest": {"code": "Code from the authenticator app, if a second factor is enabled."},
    "SignInRequest": {
        "name": "Name of the operator.",
    },
    "SignInStatusRequest": {
        "status": "New status: disabled, pilot or enabled.",
    },
    "SignInWay": {
        "kind": "Authentication method: bearer, basic or client_credentials.",
    },
    "SourceSchema": {
        "kind": "Resource type that the schema extends: User or Group.",
        "name": "Name of the schema.",
    },
    "Stage": {
        "name": "Stage: sources, users, access, applications or tasks.",
    },
    "TaskError": {
        "kind": "Kind of error.",
        "number": "Number of open tasks with this error.",
        "status": "Status: waiting, failed or held.",
    },
    "TokenOperator": {
        "id": "ID of the operator.",
        "name": "Name of the operator.",
    },
    "TraceSubject": {
        "id": "ID of the record or the group.",
        "kind": "Kind: user or group.",
        "name": "Name of the user or the group.",
    },
    "UserAttribute": {
        "name": "Name of the attribute.",
        "value": "Merged value of the attribute.",
    },
    "UserGroup": {
        "since": "Time from which the user is a member.",
    },
    "UserPortal": {
        "name": "Display name of the user.",
    },
    "UserSession": {
        "id": "ID of the session.",
    },
    "VerifyCodeRequest": {"code": "The emailed code."},
    "ProvisionedGroup": {
        "id": "ID of the provisioned group.",
        "kind": "Kind: a group, or a role that is sent as a group.",
        "members": "Number of desired members.",
        "name": "Name of the group in the application.",
        "status": "Status of the group in the application.",
    },
    "Reason": {
        "group": "The group that gives the role, or null.",
        "kind": "Kind of reason, such as direct, group, rule or everyone.",
        "since": "Time from which the reason applies.",
        "source": "The source of the group, or null.",
    },
    "RepairLine": {
        "id": "ID of the difference.",
        "kind": "Kind of difference.",
        "name": "Name of the user or group.",
    },
    "RepairPreview": {"number": "Number of differences to repair."},
    "Review": {"id": "ID of the review.", "confirmed": "Number of confirmed rows."},
    "ReviewPart": {"application": "The application of this part.", "confirmed": "Number of confirmed rows."},
    "ReviewRow": {
        "decision": "Decision: confirmed or removed; null while open.",
        "id": "ID of the row.",
        "application": "The application of the role.",
        "outcome": "What happened after the decision, or null.",
        "role": "The reviewed role.",
        "since": "Time from which the user has the role.",
        "status": "Status of the user: active, inactive or left.",
        "user": "The reviewed user.",
    },
    "Role": {"users": "Number of users with the role."},
    "ScimRequestDetail": _SCIM_REQUEST | {"at": "Time of the request."},
    "ScimRequestLine": _SCIM_REQUEST | {"at": "Time of the request."},
    "ScimToken": _TOKEN,
    "Seat": {
        "id": "ID of the seat.",
        "since": "Time from which the user has the seat; null on the waiting list.",
        "user": "The user with the seat, or on the waiting list.",
    },
    "SettingsPreview": {
        "accounts": "Number of accounts in the application.",
        "users": "The first users whose account changes.",
    },
    "Setting": {"name": "Name of the setting.", "kind": "Kind of value.", "value": "Current value."},
    "SignInLine": _SIGN_IN | {"at": "Time of the sign-in."},
    "SignInTest": {"id": "ID of the test sign-in.", "user": "User name or email of the user who may try."},
    "NewSignInTest": {"id": "ID of the test sign-in.", "user": "User name or email of the user who may try."},
    "SignInTrace": {
        "at": "Time of the sign-in.",
        **_SIGN_IN,
        "groups": "Claimed groups with what they give.",
        "issuer": "Issuer of the identity.",
        "kind": "What happened to the source record, or null.",
        "subject": "Identifier of the user at the provider.",
    },
    "Source": {
        "groups": "Number of groups.",
        "label": "Label of the source.",
        "users": "Number of users.",
    },
    "SourceConflict": {
        "decision": "Decision that was made, or null.",
        "id": "ID of the conflict.",
        "kind": "Why the record or change waits for a decision.",
        "name": "Name of the user or group in the source.",
        "status": "Status: open, decided or over.",
        "subject": "What the conflict is about: a user or a group.",
    },
    "SourcePolicy": {
        "groups": "Which groups of the source are accepted.",
        "users": "SCIM filter of the accepted users; empty accepts all.",
    },
    "Task": _TASK,
    "TaskLine": _TASK,
    "TraceUser": {
        "id": "ID of the user.",
        "name": "Display name of the user.",
        "accounts": "Accounts that change: application and desired state.",
        "gained": "Roles that the user gained.",
        "lost": "Roles that the user lost.",
    },
    "User": {
        "accounts": "Accounts of the user.",
        "groups": "Groups of the user.",
        "id": "ID of the user.",
        "since": "Time since when the user has this status.",
        "status": "Status: active, inactive or left.",
    },
    "UserLine": {
        "id": "ID of the user.",
        "since": "Time since when the user has this status.",
        "status": "Status: active, inactive or left.",
    },
    "UserRecord": {"id": "ID of the source record.", "source": "The source that reports the record."},
    "UserRef": {"id": "ID of the user."},
}
