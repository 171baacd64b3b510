const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const HOURS = [0, 6, 12, 18];

/** In which hours of the week something happened how often: a day a row, an hour a cell. */
export function WeekHours({ counts, label }: { counts: number[]; label: string }) {
  const most = Math.max(...counts, 1);
  const worst = counts.indexOf(Math.max(...counts));
  return (
    <div>
      <svg
        viewBox="0 0 316 92"
        className="w-full max-w-md"
        role="img"
        aria-label={`${label}; most often ${DAYS[Math.floor(worst / 24)]} ${worst % 24}:00`}
      >
        {DAYS.map((day, row) => (
          <text key={day} x={0} y={row * 11 + 9} fontSize="9" fill="var(--ink-2)">
            {day}
          </text>
        ))}
        {counts.map((count, i) => (
          <rect
            key={i}
            x={28 + (i % 24) * 12}
            y={Math.floor(i / 24) * 11}
            width={11}
            height={10}
            fill={count ? "var(--state-warning)" : "var(--color-base-200)"}
            opacity={count ? 0.25 + (0.75 * count) / most : 1}
          >
            <title>{`${DAYS[Math.floor(i / 24)]} ${i % 24}:00: ${count}`}</title>
          </rect>
        ))}
        {HOURS.map((hour) => (
          <text key={hour} x={28 + hour * 12} y={88} fontSize="9" fill="var(--ink-2)">
            {String(hour).padStart(2, "0")}
          </text>
        ))}
      </svg>
    </div>
  );
}
