<script lang="ts">
  // One clause as a line of the form.
  import { Button, Checkbox, Input, Select } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { keepKinds, kindOf, withKind, type Clause } from "./draft";
  let {
    clause,
    number,
    shared,
    only,
    change,
    remove
  }: {
    clause: Clause;
    number: number;
    shared: string[];
    only: boolean;
    change: (c: Clause) => void;
    remove: () => void;
  } = $props();
  let kind = $derived(kindOf(clause.keep));
  let more = $state(false);
  const set = (part: Partial<Clause>) => change({ ...clause, ...part });
  const keep = (part: Schemas["ClauseKeep"]) => set({ keep: part });
  const value = (e: Event) => (e.target as HTMLInputElement).value;
  const aligns = [
    { value: "", name: "to the second" },
    ...["day", "week", "month", "quarter", "year"].map((v) => ({ value: v, name: `cut at the ${v}` }))
  ];
  const thens = [
    { value: "", name: "as the rule says" },
    { value: "archive", name: "archive" },
    { value: "copy", name: "copy, delete later" },
    { value: "purge", name: "purge, no copy" }
  ];
</script>

<fieldset
  class="space-y-2 border-t border-gray-200 px-4 py-3 first:border-t-0 dark:border-gray-700 {clause.off
    ? 'opacity-60'
    : ''}">
  <legend class="sr-only">Clause {number}</legend>
  <div class="flex items-start gap-2">
    <span class="w-5 pt-2 text-sm font-semibold text-gray-500 dark:text-gray-400">{number}</span>
    <div class="min-w-0 flex-1 space-y-2">
      <div class="flex items-center gap-3">
        {#if clause.otherwise}<span class="flex-1 text-sm">every row that no other clause matches</span>
        {:else}<div class="flex-1">
            <Input
              size="sm"
              class="font-mono"
              aria-label="Which rows, clause {number}"
              placeholder="every row; or a condition like outcome = 'refused'"
              value={clause.where ?? ""}
              oninput={(e) => set({ where: value(e) })}
              spellcheck="false" />
          </div>{/if}
        {#if !only || clause.otherwise}<Checkbox
            checked={clause.otherwise ?? false}
            onchange={(e) => set({ otherwise: (e.target as HTMLInputElement).checked, where: "" })}
            class="text-sm whitespace-nowrap">otherwise</Checkbox
          >{/if}
      </div>
      <div class="flex flex-wrap items-center gap-2 text-sm">
        <span>stay</span>
        <Select
          size="sm"
          placeholder=""
          class="w-44"
          aria-label="How long, clause {number}"
          items={keepKinds.filter((k) => k.value !== "name" || shared.length || kind === "name")}
          value={kind}
          onchange={(e) => keep(withKind((e.target as HTMLSelectElement).value, shared))} />
        {#if kind === "period"}<div class="w-28">
            <Input
              size="sm"
              aria-label="Length of time, clause {number}"
              value={clause.keep.period ?? ""}
              oninput={(e) => keep({ period: value(e) })} />
          </div>
        {:else if kind === "before"}<div class="w-36">
            <Input
              size="sm"
              aria-label="Day, clause {number}"
              value={clause.keep.before ?? ""}
              oninput={(e) => keep({ before: value(e) })} />
          </div>
        {:else if kind === "newest"}<div class="w-20">
            <Input
              size="sm"
              type="number"
              aria-label="Partitions, clause {number}"
              value={clause.keep.newest}
              oninput={(e) => keep({ newest: Number(value(e)) || 1 })} />
          </div>
        {:else if kind === "name"}<Select
            size="sm"
            placeholder=""
            class="w-44"
            aria-label="Shared keep, clause {number}"
            items={shared.map((n) => ({ value: n, name: n }))}
            value={clause.keep.name}
            onchange={(e) => keep({ name: (e.target as HTMLSelectElement).value })} />{/if}
        {#if kind !== "forever"}<Select
            size="sm"
            placeholder=""
            class="w-40"
            aria-label="Cut, clause {number}"
            items={aligns}
            value={clause.align ?? ""}
            onchange={(e) => set({ align: (e.target as HTMLSelectElement).value })} />{/if}
        <span class="ms-auto flex gap-1">
          <Button size="xs" color="alternative" aria-expanded={more} onclick={() => (more = !more)}
            >{more ? "Less" : "More"}</Button>
          <Button
            size="xs"
            color="alternative"
            disabled={only}
            onclick={remove}
            aria-label="Remove clause {number}">Remove</Button>
        </span>
      </div>
      {#if more || clause.locked || clause.about || clause.then || clause.off}
        <div class="grid gap-2 text-sm sm:grid-cols-2">
          <Input
            size="sm"
            aria-label="Why, clause {number}"
            placeholder="why this long"
            value={clause.about ?? ""}
            oninput={(e) => set({ about: value(e) })} />
          <Input
            size="sm"
            aria-label="Locked for, clause {number}"
            placeholder="locked: the law or order behind it"
            value={clause.locked ?? ""}
            oninput={(e) => set({ locked: value(e) })} />
          <Select
            size="sm"
            placeholder=""
            aria-label="Then, clause {number}"
            items={thens}
            value={clause.then ?? ""}
            onchange={(e) => set({ then: (e.target as HTMLSelectElement).value })} />
          <Checkbox
            checked={!clause.off}
            onchange={(e) => set({ off: !(e.target as HTMLInputElement).checked })}>enabled</Checkbox>
        </div>
      {/if}
    </div>
  </div>
</fieldset>
