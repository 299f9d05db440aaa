<script lang="ts">
  // What a rule's runs require, and what is done before and after they work.
  import { Button, Input, Label, Select } from "../../lib/ui";
  import type { Draft } from "./draft";
  let { draft, set }: { draft: Draft; set: (part: Partial<Draft>) => void } = $props();

  type Requires = NonNullable<Draft["requires"]>;
  type Step = NonNullable<Draft["before"]>[number];
  type Tells = "file" | "query" | "url";
  const value = (e: Event) => (e.target as HTMLInputElement | HTMLSelectElement).value.trim();
  const kinds = [
    { value: "", name: "none is required" },
    { value: "file", name: "a file of the service's machine" },
    { value: "query", name: "a query in the source" },
    { value: "url", name: "a web server" }
  ];
  const examples = {
    file: "/var/backups/harbour.dump",
    query: "SELECT max(ended_at) FROM backup_log",
    url: "https://backups.example/newest"
  };
  let backup = $derived(draft.requires?.backup);
  let tells = $derived<Tells | "">(
    backup === undefined
      ? ""
      : backup.query !== undefined
        ? "query"
        : backup.url !== undefined
          ? "url"
          : "file"
  );
  function require(part: Partial<Requires>) {
    const all = { ...draft.requires, ...part };
    const some = Object.fromEntries(Object.entries(all).filter(([, v]) => v !== undefined && v !== 0));
    set({ requires: Object.keys(some).length ? (some as Requires) : undefined });
  }
  const told = (kind: Tells, text: string) =>
    require({ backup: { [kind]: text, within: backup?.within ?? "P1D" } as Requires["backup"] });
  // as much as is expected, so many times, or gigabytes
  const room = (text: string): Requires["store_free"] => {
    const times = /^([\d.]+)\s*x$/.exec(text);
    if (times) return { times: Number(times[1]) };
    const n = Number(text.replace(/\s*GB$/i, ""));
    return n > 0 ? { bytes: n * 1e9 } : undefined;
  };
  const roomText = (r: Requires["store_free"]) =>
    r?.times ? `${r.times}x` : r?.bytes ? `${r.bytes / 1e9} GB` : "";
  const phases = [
    { name: "before", label: "Before a run works" },
    { name: "after", label: "After it has worked, however that ended" }
  ] as const;
  const steps = (name: "before" | "after") => draft[name] ?? [];
  const setSteps = (name: "before" | "after", list: Step[]) =>
    set({ [name]: list.length ? list : undefined });
  const change = (name: "before" | "after", i: number, s: Step) =>
    setSteps(
      name,
      steps(name).map((old, j) => (j === i ? s : old))
    );
  let said = $derived(
    [
      draft.requires && `requires ${Object.keys(draft.requires).join(", ").replaceAll("_", " ")}`,
      draft.before?.length && `steps before: ${draft.before.length}`,
      draft.after?.length && `steps after: ${draft.after.length}`
    ]
      .filter(Boolean)
      .join("; ")
  );
</script>

<details class="border-t border-gray-200 px-4 py-3 dark:border-gray-700" open={!!said}>
  <summary class="cursor-pointer text-sm"
    >What its runs require, and what is done around them{said ? `: ${said}` : ": nothing"}</summary>
  <div class="mt-3 grid gap-x-4 gap-y-3 sm:grid-cols-3">
    <Label
      >The newest backup is told by<Select
        size="sm"
        placeholder=""
        id="backup-kind"
        items={kinds}
        value={tells}
        onchange={(e) => {
          const kind = value(e) as Tells | "";
          if (kind) told(kind, examples[kind]);
          else require({ backup: undefined });
        }} /></Label>
    {#if tells}
      <Label class="sm:col-span-2"
        >{kinds.find((k) => k.value === tells)?.name}<Input
          size="sm"
          id="backup-told"
          value={backup?.[tells] ?? ""}
          onchange={(e) => told(tells as Tells, value(e))} /></Label>
      <Label
        >Younger than<Input
          size="sm"
          id="backup-within"
          placeholder="P1D"
          value={backup?.within ?? ""}
          onchange={(e) =>
            require({ backup: { ...backup, within: value(e) } as Requires["backup"] })} /></Label>
    {:else}<span class="sm:col-span-2"></span>{/if}
    <Label
      >Free in the store<Input
        size="sm"
        id="store-free"
        placeholder="2x what is expected, or 20 GB"
        value={roomText(draft.requires?.store_free)}
        onchange={(e) => require({ store_free: room(value(e)) })} /></Label>
    <Label
      >Free on the database's disk<Input
        size="sm"
        id="log-free"
        placeholder="2x what is expected, or 20 GB"
        value={roomText(draft.requires?.log_free)}
        onchange={(e) => require({ log_free: room(value(e)) })} /></Label>
    <Label
      >Replica behind at most, seconds<Input
        size="sm"
        id="replica-delay"
        type="number"
        min="0"
        placeholder="any"
        value={draft.requires?.replica_delay ?? ""}
        onchange={(e) => require({ replica_delay: Number(value(e)) || undefined })} /></Label>
  </div>
  {#each phases as phase (phase.name)}
    <fieldset class="mt-3 min-w-0">
      <legend class="text-sm">{phase.label}</legend>
      {#each steps(phase.name) as step, i (i)}
        <div class="mt-1 flex items-center gap-2">
          <Select
            size="sm"
            class="w-32"
            placeholder=""
            aria-label="Kind of step {i + 1} {phase.name}"
            items={[
              { value: "sql", name: "SQL" },
              { value: "webhook", name: "webhook" }
            ]}
            value={step.webhook === undefined ? "sql" : "webhook"}
            onchange={(e) => {
              const text = step.sql ?? step.webhook ?? "";
              change(phase.name, i, value(e) === "sql" ? { sql: text } : { webhook: text });
            }} />
          <Input
            size="sm"
            class="grow"
            aria-label="Step {i + 1} {phase.name}"
            placeholder={step.webhook === undefined
              ? "ANALYZE boarding_scan"
              : "https://hooks.example/archive"}
            value={step.sql ?? step.webhook ?? ""}
            onchange={(e) =>
              change(
                phase.name,
                i,
                step.webhook === undefined ? { ...step, sql: value(e) } : { ...step, webhook: value(e) }
              )} />
          <Button
            size="xs"
            color="alternative"
            aria-label="Remove step {i + 1} {phase.name}"
            onclick={() =>
              setSteps(
                phase.name,
                steps(phase.name).filter((_, j) => j !== i)
              )}>Remove</Button>
        </div>
      {/each}
      <Button
        size="xs"
        color="alternative"
        class="mt-1"
        onclick={() => setSteps(phase.name, [...steps(phase.name), { sql: `SELECT 1` }])}
        >Add a step {phase.name}</Button>
    </fieldset>
  {/each}
</details>
