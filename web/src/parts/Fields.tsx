import { useEffect, useId, useState, type ComponentProps, type ReactNode } from "react";

/** A labelled input; an error says beside it what is wrong. */
export function Input({
  label,
  hint,
  error,
  className = "",
  ...rest
}: ComponentProps<"input"> & { label: string; hint?: string | undefined; error?: string | undefined }) {
  const id = useId();
  const described = [hint && `${id}-hint`, error && `${id}-error`].filter(Boolean).join(" ");
  return (
    <label htmlFor={id} className={`block min-w-0 text-sm ${className}`}>
      <span className="text-soft">{label}</span>
      <input
        id={id}
        {...rest}
        aria-invalid={error !== undefined}
        aria-describedby={described === "" ? undefined : described}
        className={`field mt-0.5 block w-full ${error === undefined ? "" : "border-brick"}`}
      />
      {error && (
        <span id={`${id}-error`} role="alert" className="block text-xs text-brick">
          {error}
        </span>
      )}
      {hint && (
        <span id={`${id}-hint`} className="block text-xs text-soft">
          {hint}
        </span>
      )}
    </label>
  );
}

/** A labelled text of several lines. */
export function Text({
  label,
  hint,
  className = "",
  ...rest
}: ComponentProps<"textarea"> & { label: string; hint?: string }) {
  const id = useId();
  return (
    <label htmlFor={id} className={`block min-w-0 text-sm ${className}`}>
      <span className="text-soft">{label}</span>
      <textarea
        id={id}
        rows={3}
        spellCheck={false}
        {...rest}
        aria-describedby={hint ? `${id}-hint` : undefined}
        className="field num mt-0.5 block w-full text-xs"
      />
      {hint && (
        <span id={`${id}-hint`} className="block text-xs text-soft">
          {hint}
        </span>
      )}
    </label>
  );
}

/** A labelled choice. */
export function Choice({
  label,
  hint,
  options,
  value,
  onChange,
  className = "",
  disabled = false,
}: {
  label: string;
  hint?: string | undefined;
  options: readonly (readonly [value: string, text: string])[];
  value: string;
  onChange: (value: string) => void;
  className?: string;
  disabled?: boolean;
}) {
  const id = useId();
  return (
    <label htmlFor={id} className={`block min-w-0 text-sm ${className}`}>
      <span className="text-soft">{label}</span>
      <select
        id={id}
        value={value}
        disabled={disabled}
        aria-describedby={hint ? `${id}-hint` : undefined}
        onChange={(e) => {
          onChange(e.target.value);
        }}
        className="field mt-0.5 block w-full"
      >
        {options.map(([v, text]) => (
          <option key={v} value={v}>
            {text}
          </option>
        ))}
      </select>
      {hint && (
        <span id={`${id}-hint`} className="block text-xs text-soft">
          {hint}
        </span>
      )}
    </label>
  );
}

/** A search box that hands its text on once the person stops typing. */
export function Search({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (text: string) => void;
}) {
  const [text, setText] = useState(value);
  useEffect(() => {
    if (text === value) return;
    const t = setTimeout(() => {
      onChange(text);
    }, 250);
    return () => {
      clearTimeout(t);
    };
  }, [text, value, onChange]);
  return (
    <Input
      label={label}
      type="search"
      value={text}
      onChange={(e) => {
        setText(e.target.value);
      }}
    />
  );
}

/** A group with a heading on a sheet of its own. */
export function Panel({
  title,
  beside,
  children,
  className = "",
}: {
  title: string;
  beside?: ReactNode;
  children: ReactNode;
  className?: string;
}) {
  const id = useId();
  return (
    <section aria-labelledby={id} className={`sheet min-w-0 px-3 py-2 ${className}`}>
      <div className="flex flex-wrap items-center justify-between gap-2">
        <h2 id={id} className="text-sm font-semibold">
          {title}
        </h2>
        {beside}
      </div>
      {children}
    </section>
  );
}
