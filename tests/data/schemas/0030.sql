CREATE TABLE access (
	id VARCHAR(36) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	role_id VARCHAR(36) NOT NULL, 
	reasons TEXT NOT NULL, 
	direct_only BOOLEAN DEFAULT '0' NOT NULL, 
	from_at VARCHAR(27) NOT NULL, 
	until_at VARCHAR(27), 
	CONSTRAINT pk_access PRIMARY KEY (id), 
	CONSTRAINT fk_access_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_access_role_id_role FOREIGN KEY(role_id) REFERENCES role (id), 
	CONSTRAINT fk_access_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE access_request (
	id VARCHAR(36) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	role_id VARCHAR(36), 
	reason TEXT NOT NULL, 
	status VARCHAR(12) NOT NULL, 
	requested_at VARCHAR(27) NOT NULL, 
	decided_at VARCHAR(27), 
	decided_by TEXT, 
	answer TEXT, 
	assignment_id VARCHAR(36), 
	CONSTRAINT pk_access_request PRIMARY KEY (id), 
	CONSTRAINT fk_access_request_user_id_user FOREIGN KEY(user_id) REFERENCES user (id), 
	CONSTRAINT fk_access_request_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_access_request_role_id_role FOREIGN KEY(role_id) REFERENCES role (id)
);
CREATE TABLE account (
	id VARCHAR(36) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	desired TEXT NOT NULL, 
	desired_version INTEGER NOT NULL, 
	pending_since VARCHAR(27) NOT NULL, 
	applied TEXT, 
	last_applied TEXT, 
	applied_version INTEGER NOT NULL, 
	applied_at VARCHAR(27), 
	remote_id TEXT, 
	origin VARCHAR(16), 
	outcome_unknown_since VARCHAR(27), 
	lists_valid_from VARCHAR(27), 
	to_empty TEXT, manager_key TEXT, manager_account_id VARCHAR(36), 
	CONSTRAINT pk_account PRIMARY KEY (id), 
	CONSTRAINT fk_account_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_account_user_id_user FOREIGN KEY(user_id) REFERENCES user (id), 
	CONSTRAINT uq_account_user_id_application_id UNIQUE (user_id, application_id)
);
CREATE TABLE alembic_version (
	version_num VARCHAR(32) NOT NULL, 
	CONSTRAINT alembic_version_pkc PRIMARY KEY (version_num)
);
CREATE TABLE announcement (
	id VARCHAR(36) NOT NULL, 
	about VARCHAR(12) NOT NULL, 
	about_id VARCHAR(36) NOT NULL, 
	about_label TEXT NOT NULL, 
	subject TEXT NOT NULL, 
	text TEXT NOT NULL, 
	status VARCHAR(12) NOT NULL, 
	send_at VARCHAR(27) NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	created_by TEXT NOT NULL, 
	ended_at VARCHAR(27), 
	written INTEGER DEFAULT '0' NOT NULL, 
	place VARCHAR(36) DEFAULT '' NOT NULL, 
	CONSTRAINT pk_announcement PRIMARY KEY (id)
);
CREATE TABLE api_token (
	id VARCHAR(36) NOT NULL, 
	operator_id VARCHAR(36) NOT NULL, 
	parent_id VARCHAR(36), 
	permissions TEXT, 
	label TEXT NOT NULL, 
	prefix VARCHAR(16) NOT NULL, 
	hash VARCHAR(64) NOT NULL, 
	scope VARCHAR(8) NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	expires_at VARCHAR(27), 
	last_used_at VARCHAR(27), 
	revoked_at VARCHAR(27), 
	CONSTRAINT pk_api_token PRIMARY KEY (id), 
	CONSTRAINT fk_api_token_operator_id_operator FOREIGN KEY(operator_id) REFERENCES operator (id), 
	CONSTRAINT uq_api_token_hash UNIQUE (hash)
);
CREATE TABLE application (
	id VARCHAR(36) NOT NULL, 
	"key" VARCHAR(64) NOT NULL, 
	label TEXT NOT NULL, 
	address TEXT, 
	hidden BOOLEAN DEFAULT '0' NOT NULL, 
	revision INTEGER NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	tracked_only BOOLEAN NOT NULL, 
	enabled BOOLEAN NOT NULL, 
	create_accounts BOOLEAN NOT NULL, 
	update_accounts BOOLEAN NOT NULL, 
	on_losing_access VARCHAR(16) NOT NULL, 
	on_inactive VARCHAR(16) NOT NULL, 
	on_leaving VARCHAR(16) NOT NULL, 
	max_concurrency INTEGER NOT NULL, 
	base_url TEXT, 
	secret TEXT, 
	capabilities TEXT, 
	checked_at VARCHAR(27), 
	auth TEXT, 
	secret_expires_at VARCHAR(27), 
	attributes TEXT, 
	role_encoding TEXT, 
	plan_encoding TEXT, 
	provisioned_groups TEXT, 
	adopt_groups BOOLEAN DEFAULT '0' NOT NULL, 
	rate_limit INTEGER, 
	reconcile_schedule TEXT, 
	reconcile_next_at VARCHAR(27), 
	eligibility VARCHAR(12) DEFAULT 'assigned' NOT NULL, 
	fallback VARCHAR(16) DEFAULT 'no_access' NOT NULL, 
	default_role_id VARCHAR(36), 
	several VARCHAR(12) DEFAULT 'all' NOT NULL, 
	first VARCHAR(12) DEFAULT 'both' NOT NULL, 
	failures INTEGER NOT NULL, 
	retry_at VARCHAR(27), 
	answered_at VARCHAR(27), 
	paused_at VARCHAR(27), 
	trouble TEXT, 
	trouble_hint TEXT, note TEXT, owner_id VARCHAR(36) REFERENCES operator (id), pilot_group_id VARCHAR(36), enabled_from VARCHAR(27), adopt_by TEXT, origin_attribute TEXT, seen_values TEXT, seen_at VARCHAR(27), requestable BOOLEAN DEFAULT '0' NOT NULL, unlinked_accounts VARCHAR(16) DEFAULT 'wait' NOT NULL, approve_tasks BOOLEAN DEFAULT '0' NOT NULL, original_id VARCHAR(36), tested_at VARCHAR(27), 
	CONSTRAINT pk_application PRIMARY KEY (id), 
	CONSTRAINT uq_application_key UNIQUE ("key")
);
CREATE TABLE application_icon (
	application_id VARCHAR(36) NOT NULL, 
	version VARCHAR(16) NOT NULL, 
	image BLOB NOT NULL, 
	CONSTRAINT pk_application_icon PRIMARY KEY (application_id), 
	CONSTRAINT fk_application_icon_application_id_application FOREIGN KEY(application_id) REFERENCES application (id)
);
CREATE TABLE assignment (
	id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	role_id VARCHAR(36), 
	plan_id VARCHAR(36), 
	user_id VARCHAR(36), 
	group_id VARCHAR(36), 
	rule TEXT, 
	pattern TEXT, 
	source_id VARCHAR(36), 
	confirmed TEXT, 
	future_users BOOLEAN DEFAULT '0' NOT NULL, 
	excludes BOOLEAN DEFAULT '0' NOT NULL, 
	new_users_since VARCHAR(27), 
	from_at VARCHAR(27), 
	until_at VARCHAR(27), 
	from_day VARCHAR(10), 
	until_day VARCHAR(10), 
	note TEXT, 
	created_at VARCHAR(27) NOT NULL, 
	created_by TEXT NOT NULL, 
	removed_at VARCHAR(27), expression TEXT, 
	CONSTRAINT pk_assignment PRIMARY KEY (id), 
	CONSTRAINT fk_assignment_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_assignment_group_id_group FOREIGN KEY(group_id) REFERENCES "group" (id), 
	CONSTRAINT fk_assignment_plan_id_license_plan FOREIGN KEY(plan_id) REFERENCES license_plan (id), 
	CONSTRAINT fk_assignment_role_id_role FOREIGN KEY(role_id) REFERENCES role (id), 
	CONSTRAINT fk_assignment_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT fk_assignment_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE audit (
	id INTEGER NOT NULL, 
	at VARCHAR(27) NOT NULL, 
	operator_id VARCHAR(36), 
	operator_name TEXT NOT NULL, 
	action VARCHAR(60) NOT NULL, 
	object_kind VARCHAR(30) NOT NULL, 
	object_id VARCHAR(36) NOT NULL, 
	details TEXT NOT NULL, 
	personal TEXT, 
	personal_digest VARCHAR(64) NOT NULL, 
	hmac VARCHAR(64) NOT NULL, 
	CONSTRAINT pk_audit PRIMARY KEY (id)
);
CREATE TABLE cached_report (
	name VARCHAR(40) NOT NULL, 
	at VARCHAR(27) NOT NULL, 
	marker TEXT NOT NULL, 
	value TEXT NOT NULL, 
	milliseconds INTEGER NOT NULL, 
	CONSTRAINT pk_cached_report PRIMARY KEY (name)
);
CREATE TABLE "conflict" (
	id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	connection_type VARCHAR(16) DEFAULT 'import' NOT NULL, 
	subject VARCHAR(8) NOT NULL, 
	native_id TEXT NOT NULL, 
	kind VARCHAR(20) NOT NULL, 
	name TEXT NOT NULL, 
	message TEXT NOT NULL, 
	entry TEXT NOT NULL, 
	candidates TEXT NOT NULL, 
	status VARCHAR(16) NOT NULL, 
	decision VARCHAR(16), 
	user_id VARCHAR(36), 
	decided_by TEXT, 
	first_seen_at VARCHAR(27) NOT NULL, 
	last_seen_at VARCHAR(27) NOT NULL, 
	decided_at VARCHAR(27), 
	CONSTRAINT pk_conflict PRIMARY KEY (id), 
	CONSTRAINT fk_conflict_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE consumed_assertion (
	source_id VARCHAR(36) NOT NULL, 
	once_hash VARCHAR(64) NOT NULL, 
	until_at VARCHAR(27) NOT NULL, 
	CONSTRAINT fk_consumed_assertion_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT uq_consumed_assertion_source_id_once_hash UNIQUE (source_id, once_hash)
);
CREATE TABLE drift (
	id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	kind VARCHAR(20) NOT NULL, 
	about TEXT NOT NULL, 
	account_id VARCHAR(36), 
	remote_id TEXT, 
	name TEXT NOT NULL, 
	there TEXT, 
	differences TEXT, 
	status VARCHAR(16) NOT NULL, 
	first_seen_at VARCHAR(27) NOT NULL, 
	last_seen_at VARCHAR(27) NOT NULL, 
	run_id VARCHAR(36) NOT NULL, message TEXT, hint TEXT, 
	CONSTRAINT pk_drift PRIMARY KEY (id), 
	CONSTRAINT fk_drift_account_id_account FOREIGN KEY(account_id) REFERENCES account (id), 
	CONSTRAINT fk_drift_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT uq_drift_application_id_kind_about UNIQUE (application_id, kind, about)
);
CREATE TABLE erased_identifier (
	erased_user_id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	digest VARCHAR(64) NOT NULL, 
	CONSTRAINT fk_erased_identifier_erased_user_id_erased_user FOREIGN KEY(erased_user_id) REFERENCES erased_user (id), 
	CONSTRAINT fk_erased_identifier_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT uq_erased_identifier_source_id_digest_erased_user_id UNIQUE (source_id, digest, erased_user_id)
);
CREATE TABLE erased_user (
	id VARCHAR(36) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	erased_at VARCHAR(27) NOT NULL, 
	erased_by TEXT NOT NULL, 
	accepted_at VARCHAR(27), 
	accepted_by TEXT, 
	CONSTRAINT pk_erased_user PRIMARY KEY (id), 
	CONSTRAINT fk_erased_user_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE "group" (
	id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36), 
	connection_type VARCHAR(16) NOT NULL, 
	display_name TEXT NOT NULL, 
	display_name_key TEXT NOT NULL, 
	external_id TEXT, 
	data TEXT NOT NULL, 
	version INTEGER NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	modified_at VARCHAR(27) NOT NULL, 
	deleted_at VARCHAR(27), 
	native_id TEXT, 
	reference TEXT, 
	digest VARCHAR(32), left_out VARCHAR(16), waiting VARCHAR(16), name_in_use TEXT, members_from VARCHAR(16), description TEXT, 
	CONSTRAINT pk_group PRIMARY KEY (id), 
	CONSTRAINT fk_group_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE hand_over (
	id VARCHAR(36) NOT NULL, 
	from_source_id VARCHAR(36) NOT NULL, 
	to_source_id VARCHAR(36) NOT NULL, 
	status VARCHAR(8) NOT NULL, 
	assignments TEXT NOT NULL, 
	domains TEXT NOT NULL, 
	connections TEXT NOT NULL, 
	users INTEGER NOT NULL, 
	started_at VARCHAR(27) NOT NULL, 
	changed_at VARCHAR(27) NOT NULL, 
	changed_by TEXT NOT NULL, 
	CONSTRAINT pk_hand_over PRIMARY KEY (id), 
	CONSTRAINT fk_hand_over_from_source_id_source FOREIGN KEY(from_source_id) REFERENCES source (id), 
	CONSTRAINT fk_hand_over_to_source_id_source FOREIGN KEY(to_source_id) REFERENCES source (id)
);
CREATE TABLE invitation (
	id VARCHAR(36) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	email TEXT NOT NULL, 
	hash VARCHAR(64) NOT NULL, 
	invited_by TEXT NOT NULL, 
	invited_at VARCHAR(27) NOT NULL, 
	sent_at VARCHAR(27) NOT NULL, 
	until_at VARCHAR(27) NOT NULL, 
	accepted_at VARCHAR(27), 
	accepted_with TEXT, 
	withdrawn_at VARCHAR(27), 
	CONSTRAINT pk_invitation PRIMARY KEY (id), 
	CONSTRAINT fk_invitation_user_id_user FOREIGN KEY(user_id) REFERENCES user (id), 
	CONSTRAINT uq_invitation_user_id UNIQUE (user_id), 
	CONSTRAINT uq_invitation_hash UNIQUE (hash)
);
CREATE TABLE license_plan (
	id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	"key" VARCHAR(64) NOT NULL, 
	label TEXT NOT NULL, 
	rank INTEGER NOT NULL, 
	seats INTEGER, sent_value TEXT, description TEXT, 
	CONSTRAINT pk_license_plan PRIMARY KEY (id), 
	CONSTRAINT fk_license_plan_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT uq_license_plan_application_id_key UNIQUE (application_id, "key")
);
CREATE TABLE local_password (
	user_id VARCHAR(36) NOT NULL, 
	hash TEXT NOT NULL, 
	must_change BOOLEAN NOT NULL, 
	until_at VARCHAR(27), 
	changed_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_local_password PRIMARY KEY (user_id), 
	CONSTRAINT fk_local_password_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE membership (
	id INTEGER NOT NULL, 
	group_id VARCHAR(36) NOT NULL, 
	record_id VARCHAR(36), 
	inner_group_id VARCHAR(36), 
	user_id VARCHAR(36), 
	from_at VARCHAR(27) NOT NULL, 
	until_at VARCHAR(27), waiting VARCHAR(8), 
	CONSTRAINT pk_membership PRIMARY KEY (id), 
	CONSTRAINT fk_membership_group_id_group FOREIGN KEY(group_id) REFERENCES "group" (id), 
	CONSTRAINT fk_membership_inner_group_id_group FOREIGN KEY(inner_group_id) REFERENCES "group" (id), 
	CONSTRAINT fk_membership_record_id_record FOREIGN KEY(record_id) REFERENCES record (id), 
	CONSTRAINT fk_membership_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE message (
	id VARCHAR(36) NOT NULL, 
	channel VARCHAR(8) NOT NULL, 
	kind VARCHAR(24) NOT NULL, 
	recipient TEXT NOT NULL, 
	webhook_id VARCHAR(36), 
	subject TEXT NOT NULL, 
	content TEXT, 
	status VARCHAR(12) NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	until_at VARCHAR(27) NOT NULL, 
	next_at VARCHAR(27) NOT NULL, 
	tries INTEGER DEFAULT '0' NOT NULL, 
	lost INTEGER DEFAULT '0' NOT NULL, 
	trouble TEXT, 
	ended_at VARCHAR(27), 
	event_id VARCHAR(36), 
	rule_id VARCHAR(36), 
	CONSTRAINT pk_message PRIMARY KEY (id), 
	CONSTRAINT fk_message_event_id_notification_event FOREIGN KEY(event_id) REFERENCES notification_event (id)
);
CREATE TABLE notification_event (
	id VARCHAR(36) NOT NULL, 
	kind VARCHAR(32) NOT NULL, 
	subject_id VARCHAR(64) NOT NULL, 
	subject TEXT NOT NULL, 
	application_id VARCHAR(36), 
	source_id VARCHAR(36), 
	title TEXT NOT NULL, 
	text TEXT NOT NULL, 
	path TEXT NOT NULL, 
	number INTEGER DEFAULT '1' NOT NULL, 
	level INTEGER, 
	status VARCHAR(12) NOT NULL, 
	began_at VARCHAR(27) NOT NULL, 
	reports INTEGER DEFAULT '0' NOT NULL, 
	next_report_at VARCHAR(27), 
	ended_at VARCHAR(27), 
	CONSTRAINT pk_notification_event PRIMARY KEY (id)
);
CREATE TABLE notification_rule (
	id VARCHAR(36) NOT NULL, 
	label TEXT NOT NULL, 
	kinds TEXT, 
	application_ids TEXT, 
	source_ids TEXT, 
	recipients TEXT NOT NULL, 
	frequency VARCHAR(12) NOT NULL, 
	enabled BOOLEAN DEFAULT '1' NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_notification_rule PRIMARY KEY (id)
);
CREATE TABLE operator (
	id VARCHAR(36) NOT NULL, 
	name TEXT NOT NULL, 
	name_key TEXT NOT NULL, 
	kind VARCHAR(20) NOT NULL, 
	masked BOOLEAN DEFAULT '0' NOT NULL, 
	password_hash TEXT NOT NULL, 
	only_by_source BOOLEAN DEFAULT '0' NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	disabled_at VARCHAR(27), email TEXT, hidden_areas TEXT, masked_names BOOLEAN DEFAULT '0' NOT NULL, masked_networks BOOLEAN DEFAULT '0' NOT NULL, 
	CONSTRAINT pk_operator PRIMARY KEY (id), 
	CONSTRAINT uq_operator_name_key UNIQUE (name_key)
);
CREATE TABLE operator_application (
	operator_id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	CONSTRAINT pk_operator_application PRIMARY KEY (operator_id, application_id), 
	CONSTRAINT fk_operator_application_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_operator_application_operator_id_operator FOREIGN KEY(operator_id) REFERENCES operator (id)
);
CREATE TABLE operator_link (
	id VARCHAR(36) NOT NULL, 
	operator_id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	native_id TEXT NOT NULL, 
	subject TEXT NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	last_used_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_operator_link PRIMARY KEY (id), 
	CONSTRAINT fk_operator_link_operator_id_operator FOREIGN KEY(operator_id) REFERENCES operator (id), 
	CONSTRAINT fk_operator_link_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT uq_operator_link_source_id_native_id UNIQUE (source_id, native_id)
);
CREATE TABLE operator_session (
	hash VARCHAR(64) NOT NULL, 
	operator_id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36), 
	provider_session TEXT, 
	subject TEXT, 
	subject_format TEXT, 
	created_at VARCHAR(27) NOT NULL, 
	last_seen_at VARCHAR(27) NOT NULL, 
	expires_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_operator_session PRIMARY KEY (hash), 
	CONSTRAINT fk_operator_session_operator_id_operator FOREIGN KEY(operator_id) REFERENCES operator (id)
);
CREATE TABLE passkey (
	id VARCHAR(36) NOT NULL, 
	owner_id VARCHAR(36) NOT NULL, 
	credential_id TEXT NOT NULL, 
	public_key TEXT NOT NULL, 
	sign_count INTEGER NOT NULL, 
	label TEXT NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	last_used_at VARCHAR(27), 
	CONSTRAINT pk_passkey PRIMARY KEY (id), 
	CONSTRAINT uq_passkey_credential_id UNIQUE (credential_id)
);
CREATE TABLE pending_manager (
	user_id VARCHAR(36) NOT NULL, 
	since VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_pending_manager PRIMARY KEY (user_id), 
	CONSTRAINT fk_pending_manager_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE pending_policy (
	record_id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	since VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_pending_policy PRIMARY KEY (record_id), 
	CONSTRAINT fk_pending_policy_record_id_record FOREIGN KEY(record_id) REFERENCES record (id), 
	CONSTRAINT fk_pending_policy_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE pending_recompute (
	user_id VARCHAR(36) NOT NULL, 
	since VARCHAR(27) NOT NULL, 
	confirmed_for VARCHAR(36), 
	released_by TEXT, run_id VARCHAR(36), 
	CONSTRAINT pk_pending_recompute PRIMARY KEY (user_id), 
	CONSTRAINT fk_pending_recompute_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE provisioned_group (
	id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	"key" VARCHAR(48) NOT NULL, 
	status VARCHAR(16) NOT NULL, 
	applied_name TEXT, 
	applied_at VARCHAR(27), 
	remote_id TEXT, 
	origin VARCHAR(16), 
	attempts INTEGER NOT NULL, 
	next_attempt_at VARCHAR(27), 
	message TEXT, 
	hint TEXT, 
	exchanges TEXT, 
	created_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_provisioned_group PRIMARY KEY (id), 
	CONSTRAINT fk_provisioned_group_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT uq_provisioned_group_application_id_key UNIQUE (application_id, "key")
);
CREATE TABLE provisioned_member (
	provisioned_group_id VARCHAR(36) NOT NULL, 
	account_id VARCHAR(36) NOT NULL, 
	desired BOOLEAN NOT NULL, 
	applied_remote_id TEXT, 
	CONSTRAINT pk_provisioned_member PRIMARY KEY (provisioned_group_id, account_id), 
	CONSTRAINT fk_provisioned_member_account_id_account FOREIGN KEY(account_id) REFERENCES account (id), 
	CONSTRAINT fk_provisioned_member_provisioned_group_id_provisioned_group FOREIGN KEY(provisioned_group_id) REFERENCES provisioned_group (id)
);
CREATE TABLE "record" (
	id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	connection_type VARCHAR(16) NOT NULL, 
	user_id VARCHAR(36), 
	user_name_key TEXT NOT NULL, 
	external_id TEXT, 
	email_key TEXT, 
	more_emails TEXT, 
	data TEXT NOT NULL, 
	version INTEGER NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	modified_at VARCHAR(27) NOT NULL, 
	deleted_at VARCHAR(27), 
	native_id TEXT, 
	reference TEXT, 
	digest VARCHAR(32), 
	reported TEXT, 
	undecided BOOLEAN DEFAULT '0' NOT NULL, 
	claims_seen_at VARCHAR(27), in_use TEXT, left_out VARCHAR(16), waiting VARCHAR(16), signed_in_at VARCHAR(27), 
	CONSTRAINT pk_record PRIMARY KEY (id), 
	CONSTRAINT fk_record_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT fk_record_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE record_unique (
	record_id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	path TEXT NOT NULL, 
	value_key TEXT NOT NULL, 
	CONSTRAINT fk_record_unique_record_id_record FOREIGN KEY(record_id) REFERENCES record (id), 
	CONSTRAINT fk_record_unique_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT uq_record_unique_source_id_path_value_key UNIQUE (source_id, path, value_key)
);
CREATE TABLE recovery_code (
	owner_id VARCHAR(36) NOT NULL, 
	hash VARCHAR(64) NOT NULL, 
	used_at VARCHAR(27), 
	CONSTRAINT pk_recovery_code PRIMARY KEY (hash)
);
CREATE TABLE retained_role (
	id VARCHAR(36) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	role_id VARCHAR(36) NOT NULL, 
	from_at VARCHAR(27) NOT NULL, 
	until_at VARCHAR(27), 
	CONSTRAINT pk_retained_role PRIMARY KEY (id), 
	CONSTRAINT fk_retained_role_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_retained_role_role_id_role FOREIGN KEY(role_id) REFERENCES role (id), 
	CONSTRAINT fk_retained_role_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE review (
	id VARCHAR(36) NOT NULL, 
	label TEXT NOT NULL, 
	note TEXT, 
	narrowed TEXT NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	created_by TEXT NOT NULL, 
	until_at VARCHAR(27) NOT NULL, 
	until_day VARCHAR(10), 
	closed_at VARCHAR(27), 
	closed_by TEXT, 
	CONSTRAINT pk_review PRIMARY KEY (id)
);
CREATE TABLE review_row (
	id VARCHAR(36) NOT NULL, 
	review_id VARCHAR(36) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	role_id VARCHAR(36) NOT NULL, 
	since VARCHAR(27) NOT NULL, 
	reasons TEXT NOT NULL, 
	decision VARCHAR(12), 
	decided_at VARCHAR(27), 
	decided_by TEXT, 
	note TEXT, 
	outcome TEXT, 
	CONSTRAINT pk_review_row PRIMARY KEY (id), 
	CONSTRAINT fk_review_row_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_review_row_review_id_review FOREIGN KEY(review_id) REFERENCES review (id), 
	CONSTRAINT fk_review_row_role_id_role FOREIGN KEY(role_id) REFERENCES role (id), 
	CONSTRAINT fk_review_row_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE revision (
	name VARCHAR(40) NOT NULL, 
	value INTEGER NOT NULL, 
	CONSTRAINT pk_revision PRIMARY KEY (name)
);
CREATE TABLE role (
	id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	"key" VARCHAR(64) NOT NULL, 
	label TEXT NOT NULL, 
	rank INTEGER NOT NULL, sent_value TEXT, description TEXT, 
	CONSTRAINT pk_role PRIMARY KEY (id), 
	CONSTRAINT fk_role_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT uq_role_application_id_key UNIQUE (application_id, "key")
);
CREATE TABLE run (
	id VARCHAR(36) NOT NULL, 
	kind VARCHAR(20) NOT NULL, 
	application_id VARCHAR(36), 
	source_id VARCHAR(36), 
	whole BOOLEAN, 
	preview BOOLEAN, 
	allow_removals BOOLEAN, 
	crashes INTEGER DEFAULT '0' NOT NULL, 
	status VARCHAR(16) NOT NULL, 
	requested_by TEXT NOT NULL, 
	requested_at VARCHAR(27) NOT NULL, 
	started_at VARCHAR(27), 
	ended_at VARCHAR(27), 
	progress INTEGER NOT NULL, 
	counts TEXT, 
	message TEXT, 
	hint TEXT, 
	stop_requested BOOLEAN NOT NULL, roles_ended INTEGER DEFAULT '0' NOT NULL, accounts_ended INTEGER DEFAULT '0' NOT NULL, 
	CONSTRAINT pk_run PRIMARY KEY (id), 
	CONSTRAINT fk_run_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_run_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE run_entry (
	id INTEGER NOT NULL, 
	run_id VARCHAR(36) NOT NULL, 
	kind VARCHAR(16) NOT NULL, 
	user_id VARCHAR(36), 
	name TEXT NOT NULL, 
	changes TEXT, 
	message TEXT, 
	CONSTRAINT pk_run_entry PRIMARY KEY (id), 
	CONSTRAINT fk_run_entry_run_id_run FOREIGN KEY(run_id) REFERENCES run (id), 
	CONSTRAINT fk_run_entry_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE seat (
	id VARCHAR(36) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	plan_id VARCHAR(36) NOT NULL, 
	requested_at VARCHAR(27) NOT NULL, 
	from_at VARCHAR(27), 
	until_at VARCHAR(27), 
	CONSTRAINT pk_seat PRIMARY KEY (id), 
	CONSTRAINT fk_seat_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_seat_plan_id_license_plan FOREIGN KEY(plan_id) REFERENCES license_plan (id), 
	CONSTRAINT fk_seat_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE second_factor (
	owner_id VARCHAR(36) NOT NULL, 
	secret TEXT, 
	pending TEXT, 
	since VARCHAR(27), 
	counter INTEGER, 
	CONSTRAINT pk_second_factor PRIMARY KEY (owner_id)
);
CREATE TABLE setting (
	name VARCHAR(40) NOT NULL, 
	value TEXT NOT NULL, 
	CONSTRAINT pk_setting PRIMARY KEY (name)
);
CREATE TABLE sign_in_key (
	id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	secret TEXT NOT NULL, 
	certificate TEXT NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	signs_from VARCHAR(27) NOT NULL, 
	retired_at VARCHAR(27), 
	CONSTRAINT pk_sign_in_key PRIMARY KEY (id), 
	CONSTRAINT fk_sign_in_key_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE sign_in_request (
	state_hash VARCHAR(64) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	browser_hash VARCHAR(64) NOT NULL, 
	request_id VARCHAR(80), 
	secret TEXT, 
	test_id VARCHAR(36), 
	operator_id VARCHAR(36), 
	tries INTEGER DEFAULT '0' NOT NULL, 
	back TEXT NOT NULL, 
	begun_at VARCHAR(27), 
	until_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_sign_in_request PRIMARY KEY (state_hash), 
	CONSTRAINT fk_sign_in_request_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE sign_in_step (
	hash VARCHAR(64) NOT NULL, 
	purpose VARCHAR(20) NOT NULL, 
	owner_id VARCHAR(36) NOT NULL, 
	data TEXT, 
	until_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_sign_in_step PRIMARY KEY (hash)
);
CREATE TABLE sign_in_trace (
	id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	at VARCHAR(27) NOT NULL, 
	test_id VARCHAR(36), 
	outcome VARCHAR(10) NOT NULL, 
	reason VARCHAR(40), 
	message TEXT NOT NULL, 
	hint TEXT NOT NULL, 
	name TEXT NOT NULL, 
	user_id VARCHAR(36), 
	steps TEXT NOT NULL, 
	received TEXT NOT NULL, 
	result TEXT NOT NULL, 
	raw TEXT, 
	CONSTRAINT pk_sign_in_trace PRIMARY KEY (id), 
	CONSTRAINT fk_sign_in_trace_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE source (
	id VARCHAR(36) NOT NULL, 
	"key" VARCHAR(64) NOT NULL, 
	label TEXT NOT NULL, 
	connection_type VARCHAR(16) NOT NULL, 
	priority INTEGER NOT NULL, 
	deactivation_wins BOOLEAN DEFAULT '0' NOT NULL, 
	updates BOOLEAN DEFAULT '1' NOT NULL, 
	policy TEXT, 
	domains TEXT, 
	created_at VARCHAR(27) NOT NULL, note TEXT, retired_at VARCHAR(27), scim_policy TEXT, scim_status VARCHAR(16) DEFAULT 'enabled' NOT NULL, scim_enabled_from VARCHAR(27), template VARCHAR(40), members_from VARCHAR(16) DEFAULT 'all' NOT NULL, 
	CONSTRAINT pk_source PRIMARY KEY (id), 
	CONSTRAINT uq_source_key UNIQUE ("key")
);
CREATE TABLE source_import (
	source_id VARCHAR(36) NOT NULL, 
	kind VARCHAR(16) NOT NULL, 
	settings TEXT NOT NULL, 
	secret TEXT, 
	enabled BOOLEAN NOT NULL, 
	enabled_from VARCHAR(27), 
	schedule VARCHAR(100) NOT NULL, 
	next_at VARCHAR(27), 
	change_marker TEXT, 
	full_at VARCHAR(27), 
	checked TEXT, 
	checked_at VARCHAR(27), 
	CONSTRAINT pk_source_import PRIMARY KEY (source_id), 
	CONSTRAINT fk_source_import_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE source_observation (
	source_id VARCHAR(36) NOT NULL, 
	what VARCHAR(40) NOT NULL, 
	first_at VARCHAR(27) NOT NULL, 
	last_at VARCHAR(27) NOT NULL, 
	detail TEXT, 
	CONSTRAINT fk_source_observation_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT uq_source_observation_source_id_what UNIQUE (source_id, what)
);
CREATE TABLE source_schema (
	id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	urn TEXT NOT NULL, 
	kind VARCHAR(8) NOT NULL, 
	document TEXT NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_source_schema PRIMARY KEY (id), 
	CONSTRAINT fk_source_schema_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT uq_source_schema_source_id_urn UNIQUE (source_id, urn)
);
CREATE TABLE source_sign_in (
	source_id VARCHAR(36) NOT NULL, 
	protocol VARCHAR(8) NOT NULL, 
	settings TEXT NOT NULL, 
	provider TEXT NOT NULL, 
	policy TEXT, 
	secret TEXT, 
	status VARCHAR(12) DEFAULT 'disabled' NOT NULL, 
	enabled_from VARCHAR(27), 
	serves VARCHAR(12) DEFAULT 'users' NOT NULL, 
	verified_at VARCHAR(27), 
	looked_at VARCHAR(27), 
	trouble TEXT, 
	waiting TEXT, 
	changed_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_source_sign_in PRIMARY KEY (source_id), 
	CONSTRAINT fk_source_sign_in_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE source_token (
	id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	label TEXT NOT NULL, 
	prefix VARCHAR(16) NOT NULL, 
	hash VARCHAR(64) NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	expires_at VARCHAR(27), 
	last_used_at VARCHAR(27), 
	revoked_at VARCHAR(27), 
	kinds VARCHAR(8) DEFAULT 'both' NOT NULL, 
	access VARCHAR(8) DEFAULT 'write' NOT NULL, created_by TEXT, 
	CONSTRAINT pk_source_token PRIMARY KEY (id), 
	CONSTRAINT fk_source_token_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT uq_source_token_hash UNIQUE (hash)
);
CREATE TABLE task (
	id VARCHAR(36) NOT NULL, 
	account_id VARCHAR(36) NOT NULL, 
	application_id VARCHAR(36) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	status VARCHAR(16) NOT NULL, 
	version INTEGER NOT NULL, 
	desired_state TEXT NOT NULL, 
	attempts INTEGER NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	next_attempt_at VARCHAR(27), 
	closed_at VARCHAR(27), 
	message TEXT, 
	hint TEXT, 
	kind VARCHAR(40), 
	removes BOOLEAN DEFAULT '0' NOT NULL, 
	released_at VARCHAR(27), 
	released_by TEXT, 
	held_at VARCHAR(27), manual_action VARCHAR(16), applied_before TEXT, approved_version INTEGER, approved_by TEXT, 
	CONSTRAINT pk_task PRIMARY KEY (id), 
	CONSTRAINT fk_task_account_id_account FOREIGN KEY(account_id) REFERENCES account (id), 
	CONSTRAINT fk_task_application_id_application FOREIGN KEY(application_id) REFERENCES application (id), 
	CONSTRAINT fk_task_user_id_user FOREIGN KEY(user_id) REFERENCES user (id)
);
CREATE TABLE task_attempt (
	id INTEGER NOT NULL, 
	task_id VARCHAR(36) NOT NULL, 
	version INTEGER NOT NULL, 
	started_at VARCHAR(27) NOT NULL, 
	ended_at VARCHAR(27) NOT NULL, 
	outcome VARCHAR(16) NOT NULL, 
	message TEXT, 
	exchanges TEXT NOT NULL, 
	CONSTRAINT pk_task_attempt PRIMARY KEY (id), 
	CONSTRAINT fk_task_attempt_task_id_task FOREIGN KEY(task_id) REFERENCES task (id)
);
CREATE TABLE test_sign_in (
	id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	hash VARCHAR(64) NOT NULL, 
	user TEXT NOT NULL, 
	user_key TEXT NOT NULL, 
	mode VARCHAR(10) NOT NULL, 
	created_by TEXT NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	until_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_test_sign_in PRIMARY KEY (id), 
	CONSTRAINT fk_test_sign_in_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT uq_test_sign_in_hash UNIQUE (hash)
);
CREATE TABLE trace (
	id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	at VARCHAR(27) NOT NULL, 
	method VARCHAR(8) NOT NULL, 
	path TEXT NOT NULL, 
	"query" TEXT, 
	status INTEGER NOT NULL, 
	milliseconds INTEGER NOT NULL, 
	outcome TEXT NOT NULL, 
	quirks TEXT, 
	effects TEXT, 
	body TEXT, 
	CONSTRAINT pk_trace PRIMARY KEY (id), 
	CONSTRAINT fk_trace_source_id_source FOREIGN KEY(source_id) REFERENCES source (id)
);
CREATE TABLE user (
	id VARCHAR(36) NOT NULL, 
	user_name TEXT NOT NULL, 
	user_name_key TEXT NOT NULL, 
	display_name TEXT NOT NULL, 
	display_name_key TEXT NOT NULL, 
	email TEXT, 
	email_key TEXT, 
	attributes TEXT NOT NULL, 
	value_sources TEXT NOT NULL, 
	active BOOLEAN NOT NULL, 
	revision INTEGER NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	modified_at VARCHAR(27) NOT NULL, 
	inactive_since VARCHAR(27), 
	left_at VARCHAR(27), 
	next_change_at VARCHAR(27), mark VARCHAR(8), mark_from_at VARCHAR(27), mark_note TEXT, marked_by TEXT, marked_at VARCHAR(27), invited_at VARCHAR(27), 
	CONSTRAINT pk_user PRIMARY KEY (id)
);
CREATE TABLE user_session (
	id VARCHAR(36) NOT NULL, 
	hash VARCHAR(64) NOT NULL, 
	user_id VARCHAR(36) NOT NULL, 
	source_id VARCHAR(36) NOT NULL, 
	session TEXT, 
	subject TEXT NOT NULL, 
	subject_format TEXT, 
	created_at VARCHAR(27) NOT NULL, 
	last_seen_at VARCHAR(27) NOT NULL, 
	until_at VARCHAR(27) NOT NULL, 
	CONSTRAINT pk_user_session PRIMARY KEY (id), 
	CONSTRAINT fk_user_session_source_id_source FOREIGN KEY(source_id) REFERENCES source (id), 
	CONSTRAINT fk_user_session_user_id_user FOREIGN KEY(user_id) REFERENCES user (id), 
	CONSTRAINT uq_user_session_hash UNIQUE (hash)
);
CREATE TABLE webhook (
	id VARCHAR(36) NOT NULL, 
	label TEXT NOT NULL, 
	url TEXT NOT NULL, 
	secret TEXT NOT NULL, 
	created_at VARCHAR(27) NOT NULL, 
	disabled_at VARCHAR(27), 
	sent_at VARCHAR(27), 
	failing_since VARCHAR(27), 
	trouble TEXT, 
	CONSTRAINT pk_webhook PRIMARY KEY (id)
);
CREATE INDEX ix_access_began ON access (from_at);
CREATE INDEX ix_access_direct ON access (user_id, direct_only, until_at) WHERE until_at IS NULL AND direct_only = 1;
CREATE INDEX ix_access_ended ON access (until_at) WHERE until_at IS NOT NULL;
CREATE INDEX ix_access_history ON access (user_id, from_at);
CREATE INDEX ix_access_of_application ON access (application_id, user_id, until_at) WHERE until_at IS NULL;
CREATE INDEX ix_access_request_of_application ON access_request (application_id, id);
CREATE INDEX ix_account_manager ON account (manager_account_id) WHERE manager_account_id IS NOT NULL;
CREATE INDEX ix_account_manager_key ON account (manager_key) WHERE manager_key IS NOT NULL;
CREATE INDEX ix_account_of_application ON account (application_id, id);
CREATE INDEX ix_announcement_due ON announcement (send_at) WHERE status IN ('scheduled', 'sending');
CREATE INDEX ix_api_token_operator_id ON api_token (operator_id);
CREATE INDEX ix_api_token_parent_id ON api_token (parent_id);
CREATE INDEX ix_application_enabled_from ON application (enabled_from) WHERE enabled_from IS NOT NULL;
CREATE INDEX ix_application_owner_id ON application (owner_id);
CREATE INDEX ix_assignment_application_id ON assignment (application_id);
CREATE INDEX ix_assignment_user ON assignment (user_id) WHERE removed_at IS NULL AND user_id IS NOT NULL;
CREATE INDEX ix_audit_object ON audit (object_kind, object_id, id);
CREATE INDEX ix_conflict_open ON "conflict" (source_id, id) WHERE status = 'open';
CREATE INDEX ix_consumed_assertion_until ON consumed_assertion (until_at);
CREATE INDEX ix_drift_of_application ON drift (application_id, status, id);
CREATE INDEX ix_group_external_id ON "group" (source_id, connection_type, external_id) WHERE deleted_at IS NULL;
CREATE INDEX ix_group_listing ON "group" (display_name_key, id) WHERE deleted_at IS NULL;
CREATE INDEX ix_group_members_from ON "group" (id) WHERE members_from IS NOT NULL;
CREATE INDEX ix_group_name ON "group" (source_id, connection_type, display_name_key) WHERE deleted_at IS NULL;
CREATE INDEX ix_group_waiting ON "group" (source_id, id) WHERE waiting IS NOT NULL;
CREATE INDEX ix_hand_over_from_source_id ON hand_over (from_source_id);
CREATE INDEX ix_invitation_open ON invitation (until_at) WHERE accepted_at IS NULL AND withdrawn_at IS NULL;
CREATE INDEX ix_membership_history ON membership (record_id, from_at);
CREATE INDEX ix_membership_of_group ON membership (inner_group_id) WHERE until_at IS NULL AND inner_group_id IS NOT NULL;
CREATE INDEX ix_membership_of_record ON membership (record_id) WHERE until_at IS NULL AND record_id IS NOT NULL;
CREATE INDEX ix_membership_of_user ON membership (user_id) WHERE until_at IS NULL AND user_id IS NOT NULL;
CREATE INDEX ix_membership_record_waiting ON membership (record_id) WHERE waiting IS NOT NULL;
CREATE INDEX ix_membership_waiting ON membership (group_id) WHERE waiting IS NOT NULL;
CREATE INDEX ix_message_created ON message (created_at);
CREATE INDEX ix_message_event_id ON message (event_id);
CREATE INDEX ix_message_next ON message (next_at) WHERE status IN ('collected', 'waiting');
CREATE INDEX ix_notification_event_ended ON notification_event (status, ended_at);
CREATE INDEX ix_notification_event_unreported ON notification_event (id) WHERE status = 'happened' AND reports = 0;
CREATE INDEX ix_operator_link_operator_id ON operator_link (operator_id);
CREATE INDEX ix_operator_session_operator_id ON operator_session (operator_id);
CREATE INDEX ix_passkey_owner_id ON passkey (owner_id);
CREATE INDEX ix_pending_policy_source_id ON pending_policy (source_id);
CREATE INDEX ix_provisioned_group_waiting ON provisioned_group (application_id, next_attempt_at) WHERE status = 'waiting';
CREATE INDEX ix_provisioned_member_account ON provisioned_member (account_id);
CREATE INDEX ix_record_email ON record (source_id, email_key) WHERE deleted_at IS NULL AND email_key IS NOT NULL;
CREATE INDEX ix_record_external_id ON record (source_id, connection_type, external_id) WHERE deleted_at IS NULL;
CREATE INDEX ix_record_heard ON record (source_id, claims_seen_at) WHERE claims_seen_at IS NOT NULL;
CREATE INDEX ix_record_left_out ON record (source_id, left_out) WHERE left_out IS NOT NULL;
CREATE INDEX ix_record_listing ON record (source_id, connection_type, id) WHERE deleted_at IS NULL;
CREATE INDEX ix_record_locator ON record (source_id, reference) WHERE deleted_at IS NULL AND reference IS NOT NULL;
CREATE INDEX ix_record_more_emails ON record (source_id, more_emails) WHERE deleted_at IS NULL AND more_emails IS NOT NULL;
CREATE INDEX ix_record_signed_in ON record (source_id, signed_in_at) WHERE signed_in_at IS NOT NULL;
CREATE INDEX ix_record_unique_record_id ON record_unique (record_id);
CREATE INDEX ix_record_user_id ON record (user_id);
CREATE INDEX ix_record_waiting ON record (source_id, waiting) WHERE waiting IS NOT NULL;
CREATE INDEX ix_recovery_code_owner_id ON recovery_code (owner_id);
CREATE INDEX ix_review_row_of_application ON review_row (application_id);
CREATE INDEX ix_review_row_of_review ON review_row (review_id, application_id, decision);
CREATE INDEX ix_run_entry ON run_entry (run_id, kind, id);
CREATE INDEX ix_run_of_application ON run (application_id, id);
CREATE INDEX ix_run_of_source ON run (source_id, id) WHERE source_id IS NOT NULL;
CREATE INDEX ix_run_open ON run (status) WHERE ended_at IS NULL;
CREATE INDEX ix_seat_application_id ON seat (application_id);
CREATE INDEX ix_seat_taken ON seat (plan_id) WHERE until_at IS NULL AND from_at IS NOT NULL;
CREATE INDEX ix_seat_waited_for ON seat (plan_id, requested_at) WHERE until_at IS NULL AND from_at IS NULL;
CREATE INDEX ix_sign_in_key_source_id ON sign_in_key (source_id);
CREATE INDEX ix_sign_in_request_until ON sign_in_request (until_at);
CREATE INDEX ix_sign_in_step_owner_id ON sign_in_step (owner_id);
CREATE INDEX ix_sign_in_step_until ON sign_in_step (until_at);
CREATE INDEX ix_sign_in_trace_of_sign_in_test ON sign_in_trace (test_id) WHERE test_id IS NOT NULL;
CREATE INDEX ix_sign_in_trace_of_source ON sign_in_trace (source_id, id);
CREATE INDEX ix_sign_in_trace_refused ON sign_in_trace (at, source_id) WHERE outcome = 'refused' AND test_id IS NULL;
CREATE INDEX ix_source_token_source_id ON source_token (source_id);
CREATE INDEX ix_task_attempt_task_id ON task_attempt (task_id);
CREATE INDEX ix_task_held ON task (application_id) WHERE held_at IS NOT NULL AND closed_at IS NULL;
CREATE INDEX ix_task_of_account ON task (account_id, id);
CREATE INDEX ix_task_of_application ON task (application_id, id);
CREATE INDEX ix_task_removing ON task (released_at, application_id) WHERE removes = 1;
CREATE INDEX ix_task_status ON task (status, id);
CREATE INDEX ix_task_user_id ON task (user_id);
CREATE INDEX ix_task_waiting ON task (application_id, next_attempt_at) WHERE status = 'waiting';
CREATE INDEX ix_test_sign_in_source_id ON test_sign_in (source_id);
CREATE INDEX ix_trace_of_source ON trace (source_id, id);
CREATE INDEX ix_user_display ON user (display_name_key, id, user_name_key, email_key);
CREATE INDEX ix_user_email ON user (email_key);
CREATE INDEX ix_user_invited ON user (display_name_key, id) WHERE invited_at IS NOT NULL;
CREATE INDEX ix_user_mark ON user (display_name_key, id) WHERE mark IS NOT NULL;
CREATE INDEX ix_user_name ON user (user_name_key, id);
CREATE INDEX ix_user_next_change ON user (next_change_at) WHERE next_change_at IS NOT NULL;
CREATE INDEX ix_user_session_until ON user_session (until_at);
CREATE INDEX ix_user_session_user_id ON user_session (user_id);
CREATE INDEX ix_user_status ON user (active, left_at, display_name_key, id);
CREATE UNIQUE INDEX uq_access_open ON access (user_id, role_id) WHERE until_at IS NULL;
CREATE UNIQUE INDEX uq_access_request_open ON access_request (user_id, application_id) WHERE status = 'open';
CREATE UNIQUE INDEX uq_account_remote ON account (application_id, remote_id) WHERE remote_id IS NOT NULL;
CREATE UNIQUE INDEX uq_assignment_group ON assignment (role_id, group_id) WHERE removed_at IS NULL AND group_id IS NOT NULL;
CREATE UNIQUE INDEX uq_assignment_group_no_role ON assignment (application_id, group_id, excludes) WHERE removed_at IS NULL AND group_id IS NOT NULL AND role_id IS NULL;
CREATE UNIQUE INDEX uq_assignment_user ON assignment (role_id, user_id) WHERE removed_at IS NULL AND user_id IS NOT NULL;
CREATE UNIQUE INDEX uq_assignment_user_no_role ON assignment (application_id, user_id, excludes) WHERE removed_at IS NULL AND user_id IS NOT NULL AND role_id IS NULL;
CREATE UNIQUE INDEX uq_conflict ON "conflict" (source_id, subject, native_id) WHERE status != 'over';
CREATE UNIQUE INDEX uq_group_native_id ON "group" (source_id, connection_type, native_id) WHERE native_id IS NOT NULL;
CREATE UNIQUE INDEX uq_membership_group ON membership (group_id, inner_group_id) WHERE until_at IS NULL AND inner_group_id IS NOT NULL;
CREATE UNIQUE INDEX uq_membership_record ON membership (group_id, record_id) WHERE until_at IS NULL AND record_id IS NOT NULL;
CREATE UNIQUE INDEX uq_membership_user ON membership (group_id, user_id) WHERE until_at IS NULL AND user_id IS NOT NULL;
CREATE UNIQUE INDEX uq_notification_event_open ON notification_event (kind, subject_id) WHERE status = 'open';
CREATE UNIQUE INDEX uq_record_native_id ON record (source_id, connection_type, native_id) WHERE native_id IS NOT NULL;
CREATE UNIQUE INDEX uq_record_user_name ON record (source_id, connection_type, user_name_key) WHERE deleted_at IS NULL;
CREATE UNIQUE INDEX uq_retained_role_open ON retained_role (user_id, role_id) WHERE until_at IS NULL;
CREATE UNIQUE INDEX uq_seat_taken ON seat (user_id, application_id) WHERE until_at IS NULL AND from_at IS NOT NULL;
CREATE UNIQUE INDEX uq_seat_waited_for ON seat (user_id, plan_id) WHERE until_at IS NULL AND from_at IS NULL;
CREATE UNIQUE INDEX uq_task_open ON task (account_id) WHERE closed_at IS NULL;
