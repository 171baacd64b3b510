import { type CSSProperties, useEffect, useState } from "react";
import type { Metric } from "../api/client";
import { type Question, questionText, readQuestion, TAKES, type Take } from "../lib/question";

const LINE =
  "rounded-none border-0 border-b-2 border-primary/70 bg-transparent px-0.5 font-semibold text-primary focus-visible:outline-2 focus-visible:outline-offset-2";

/** One question as a sentence whose words are its controls. */
export function Asking({
  question,
  first,
  metrics,
  change,
  remove,
}: {
  question: Question;
  first: boolean;
  metrics: Metric[];
  change: (change: Partial<Question>) => void;
  remove: (() => void) | undefined;
}) {
  const metric = metrics.find((one) => one.name === question.metric);
  return (
    <div className={first ? "text-lg leading-9" : "text-ink-2 leading-8"}>
      {first ? "The " : "and the "}
      <select
        aria-label="Take"
        className={`${LINE} grows cursor-pointer`}
        value={question.take}
        onChange={(e) => change({ take: e.target.value as Take })}
      >
        {TAKES.map(([take, word]) => (
          <option key={take} value={take}>
            {word}
          </option>
        ))}
      </select>{" "}
      of{" "}
      <Typed
        label="Metric"
        value={question.metric}
        keep={(text) => change({ metric: text })}
        list="all-metrics"
        placeholder="a metric"
        title={metric ? `${metric.description} (${metric.unit || "no unit"})` : ""}
      />{" "}
      for each{" "}
      <Typed
        label="Split by"
        value={question.by.join(", ")}
        keep={(text) => change({ by: words(text) })}
        list="all-splits"
        placeholder="(all together)"
      />{" "}
      where{" "}
      <Typed
        label="Filter"
        value={question.where}
        keep={(text) => change({ where: text })}
        placeholder="anything"
        wide
      />
      {remove && (
        <button type="button" className="btn btn-ghost btn-xs ml-2 font-normal" onClick={remove}>
          Leave it out
        </button>
      )}
    </div>
  );
}

function words(text: string): string[] {
  return text
    .split(",")
    .map((one) => one.trim())
    .filter(Boolean);
}

/** What is typed counts when the field is left, or at Enter. */
function Typed({
  label,
  value,
  keep,
  list,
  placeholder,
  title,
  wide = false,
}: {
  label: string;
  value: string;
  keep: (text: string) => void;
  list?: string;
  placeholder: string;
  title?: string;
  wide?: boolean;
}) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  const done = (now: string) => now.trim() !== value && keep(now.trim());
  const width = Math.min(wide ? 90 : 44, Math.max(text.length, placeholder.length) + 1);
  return (
    <input
      aria-label={label}
      className={`${LINE} grows h-8 max-w-full placeholder:font-normal placeholder:text-ink-2`}
      style={{ "--as-wide": `${width}ch` } as CSSProperties}
      list={list}
      placeholder={placeholder}
      title={title}
      autoComplete="off"
      spellCheck={false}
      value={text}
      onChange={(e) => {
        setText(e.target.value);
        // What was chosen from the list comes at once, whole.
        if (list && !(e.nativeEvent as InputEvent).inputType) done(e.target.value);
      }}
      onBlur={() => done(text)}
      onKeyDown={(e) => e.key === "Enter" && done(text)}
    />
  );
}

/** All questions as text, a line each. */
export function AskingAsText({ questions, keep }: { questions: Question[]; keep: (questions: Question[]) => void }) {
  const [text, setText] = useState(questions.map(questionText).join("\n"));
  const read = text
    .split("\n")
    .filter((line) => line.trim())
    .map(readQuestion);
  const wrong = read.indexOf(undefined);
  return (
    <div className="mb-2">
      <textarea
        aria-label="The questions as text"
        className="textarea w-full font-mono text-sm"
        rows={Math.max(2, read.length + 1)}
        spellCheck={false}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <div className="flex items-center gap-3">
        <button
          type="button"
          className="btn btn-sm"
          disabled={wrong >= 0 || !read.length}
          onClick={() => keep(read.filter((one) => one !== undefined))}
        >
          Ask it
        </button>
        {wrong >= 0 && (
          <span role="alert" className="text-error text-sm">
            line {wrong + 1}: write it like: avg of balise.cpu.busy by host where group eq "Booking"
          </span>
        )}
      </div>
    </div>
  );
}
