"""The series store: durable inbox, recent points, sealed blocks, rollup matrices."""
