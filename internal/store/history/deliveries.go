package history

// DeliveryColumns are those of a job.Delivery; d is the delivery, m its message, t its place.
const DeliveryColumns = `d.id, d.message_id, m.sha256, d.yes_until, d.taken_as, d.run_id, d.alert_id, d.job_id,
	coalesce((SELECT name FROM subscriptions WHERE id = d.subscription_id), '') AS subscription,
	d.destination_id, t.name AS destination, d.part, d.address, d.went_to, d.meant_for,
	CASE WHEN d.kept_back = 'event' THEN '' ELSE d.kept_back END AS kept_back, m.size, m.subject,
	m.message_id AS mail_id, d.state, d.tries,
	d.ready_at, d.answer, d.advice, d.class, d.offered_at, d.settled_at, d.created_at
	FROM deliveries d JOIN messages m ON m.id = d.message_id JOIN destinations t ON t.id = d.destination_id`
