import { createContext, type ReactNode, useContext, useId } from "react";
import { Failure } from "./Note";
import type { Form } from "./useForm";

interface Held {
  // A form of any shape: fields name what they show of it.
  form: Form<Record<string, unknown>>;
  disabled: boolean;
}

const Context = createContext<Held | undefined>(undefined);

function useHeld(): Held {
  const held = useContext(Context);
  if (!held) throw new Error("a field stands outside of a form");
  return held;
}

/** A form: its fields name what they show of `form`, and Enter sends it. */
export function FormBox<T extends object>({
  form,
  send,
  disabled = false,
  className,
  label,
  children,
}: {
  form: Form<T>;
  send: () => Promise<unknown>;
  disabled?: boolean;
  className?: string;
  label?: string;
  children: ReactNode;
}) {
  return (
    <Context.Provider value={{ form: form as unknown as Held["form"], disabled }}>
      <form
        aria-label={label}
        className={className}
        onSubmit={(e) => {
          e.preventDefault();
          void form.send(send);
        }}
      >
        {children}
      </form>
    </Context.Provider>
  );
}

/** A form in one row that wraps: fields, the button that sends, a note, and what went wrong. */
export function RowForm<T extends object>({
  form,
  send,
  label,
  note,
  children,
}: {
  form: Form<T>;
  send: () => Promise<unknown>;
  label: string;
  note?: string;
  children: ReactNode;
}) {
  return (
    <FormBox form={form} send={send} className="mb-5">
      <div className="flex flex-wrap items-start gap-3">
        {children}
        <span className="mt-5.5">
          <Submit label={label} />
        </span>
      </div>
      {note && <p className="mt-1 text-ink-2 text-sm">{note}</p>}
      <WentWrong />
    </FormBox>
  );
}

export function Submit({ label, disabled = false }: { label: string; disabled?: boolean }) {
  const { form } = useHeld();
  return (
    <button type="submit" className="btn btn-primary btn-sm" disabled={disabled || form.busy}>
      {label}
    </button>
  );
}

export function WentWrong() {
  const { form } = useHeld();
  return form.error === undefined ? null : <Failure error={form.error} />;
}

export interface Shared {
  name: string;
  label: ReactNode;
  /** What the service calls the field, when that is another name. */
  place?: string;
  hint?: string | undefined;
  /** Classes for the whole field. */
  className?: string;
  /** Classes for what is typed into. */
  width?: string;
  required?: boolean;
  disabled?: boolean;
}

/** A label, what is typed into, and below it what is wrong, or else a hint; both are read out with the field. */
export function Field({
  id,
  label,
  problem,
  hint,
  className = "",
  children,
}: {
  id: string;
  label: ReactNode;
  problem?: string | undefined;
  hint?: string | undefined;
  className?: string | undefined;
  children: ReactNode;
}) {
  return (
    <div className={`flex flex-col gap-0.5 text-sm ${className}`}>
      <label htmlFor={id}>{label}</label>
      {children}
      {(problem || hint) && (
        <span
          id={`${id}-about`}
          role={problem ? "alert" : undefined}
          className={problem ? "text-error" : "text-ink-2 text-xs"}
        >
          {problem || hint}
        </span>
      )}
    </div>
  );
}

export function useField({ name, place, disabled, hint, label, className }: Shared) {
  const held = useHeld();
  const id = useId();
  const problem = held.form.problem(place ?? name);
  return {
    field: { id, label, hint, className, problem },
    value: String(held.form.values[name] ?? ""),
    put: (value: unknown) => held.form.set({ [name]: value }),
    common: {
      id,
      name,
      disabled: held.disabled || disabled,
      "aria-invalid": problem !== undefined,
      "aria-describedby": problem || hint ? `${id}-about` : undefined,
    },
  };
}

/** One line of text, a number or a secret. */
export function TextField({
  type = "text",
  list,
  placeholder,
  mono = false,
  min,
  max,
  minLength,
  ...shared
}: Shared & {
  type?: "text" | "number" | "password" | "url";
  list?: string | undefined;
  placeholder?: string;
  mono?: boolean;
  min?: number;
  max?: number;
  minLength?: number;
}) {
  const { field, value, put, common } = useField(shared);
  return (
    <Field {...field}>
      <input
        {...common}
        type={type}
        list={list}
        min={min}
        max={max}
        minLength={minLength}
        placeholder={placeholder}
        required={shared.required}
        autoComplete={type === "password" ? "new-password" : "off"}
        spellCheck={false}
        className={`input input-sm ${mono ? "font-mono" : ""} ${shared.width ?? "w-full"}`}
        value={value}
        onChange={(e) => put(e.target.value)}
      />
    </Field>
  );
}

/** Several lines of text. */
export function AreaField({
  rows = 4,
  placeholder,
  mono = false,
  ...shared
}: Shared & { rows?: number; placeholder?: string; mono?: boolean }) {
  const { field, value, put, common } = useField(shared);
  return (
    <Field {...field}>
      <textarea
        {...common}
        rows={rows}
        placeholder={placeholder}
        required={shared.required}
        spellCheck={false}
        className={`textarea ${mono ? "font-mono text-sm" : ""} ${shared.width ?? "w-full"}`}
        value={value}
        onChange={(e) => put(e.target.value)}
      />
    </Field>
  );
}

/** One of several: each is its word, or its value and its word. */
export type Options = readonly (string | readonly [value: string, word: string])[];

/** What can be chosen, inside of a select. */
export function Choices({ options }: { options: Options }) {
  return options.map((option) => {
    const [held, word] = typeof option === "string" ? [option, option] : option;
    return (
      <option key={held} value={held}>
        {word}
      </option>
    );
  });
}

export function ChoiceField({ options, ...shared }: Shared & { options: Options }) {
  const { field, value, put, common } = useField(shared);
  return (
    <Field {...field}>
      <select
        {...common}
        className={`select select-sm ${shared.width ?? "w-full"}`}
        value={value}
        onChange={(e) => put(e.target.value)}
      >
        <Choices options={options} />
      </select>
    </Field>
  );
}

export function TickField({ name, label, className = "" }: { name: string; label: string; className?: string }) {
  const { form, disabled } = useHeld();
  return (
    <label className={`flex items-center gap-2 ${className}`}>
      <input
        type="checkbox"
        name={name}
        className="checkbox checkbox-sm"
        disabled={disabled}
        checked={Boolean(form.values[name])}
        onChange={(e) => form.set({ [name]: e.target.checked })}
      />
      {label}
    </label>
  );
}

/** Any of several, kept as a list. */
export function TicksField({ name, legend, options }: { name: string; legend: string; options: readonly string[] }) {
  const { form, disabled } = useHeld();
  const held = (form.values[name] ?? []) as string[];
  return (
    <fieldset disabled={disabled} className="text-sm">
      <legend>{legend}</legend>
      {options.map((option) => (
        <label key={option} className="mr-3 inline-flex items-center gap-1">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={held.includes(option)}
            onChange={(e) =>
              form.set({ [name]: e.target.checked ? [...held, option] : held.filter((one) => one !== option) })
            }
          />
          {option}
        </label>
      ))}
    </fieldset>
  );
}
