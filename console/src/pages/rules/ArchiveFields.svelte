<script lang="ts">
  // What happens to rows that are due, and where their copies go.
  import { Input, Label, Select } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { copies, names, type Draft } from "./draft";

  type Props = { draft: Draft; set: (part: Partial<Draft>) => void; stores: Schemas["StoreView"][] };
  let { draft, set, stores }: Props = $props();
  const value = (e: Event) => (e.target as HTMLInputElement | HTMLSelectElement).value;
  const thens = [
    { value: "archive", name: "archive" },
    { value: "copy", name: "copy, delete later" },
    { value: "purge", name: "purge, no copy" }
  ];
</script>

<div class="grid gap-x-4 gap-y-3 border-t border-gray-200 px-4 py-3 sm:grid-cols-2 dark:border-gray-700">
  <Label
    >Due rows<Select
      size="sm"
      placeholder=""
      id="then"
      items={thens}
      value={draft.then}
      onchange={(e) => set({ then: value(e) })} /></Label>
  {#if copies(draft)}
    <Label
      >Store<Select
        size="sm"
        placeholder=""
        id="store"
        items={names(stores, draft.archive.store)}
        value={draft.archive.store}
        onchange={(e) => set({ archive: { ...draft.archive, store: value(e) } })} /></Label>
    <Label
      >In the archive for<Input
        size="sm"
        id="archive-keep"
        placeholder="without end"
        value={draft.archive.keep ?? ""}
        oninput={(e) =>
          set({
            archive: value(e)
              ? { ...draft.archive, keep: value(e) }
              : { ...draft.archive, keep: undefined, from: undefined }
          })} /></Label>
    {#if draft.archive.keep}<Label
        >Counted from<Select
          size="sm"
          placeholder=""
          id="archive-from"
          items={[
            { value: "", name: "the moment of archiving" },
            { value: "age", name: "the age of the newest row" }
          ]}
          value={draft.archive.from === "age" ? "age" : ""}
          onchange={(e) => set({ archive: { ...draft.archive, from: value(e) || undefined } })} /></Label
      >{/if}
    <Label
      >Second copy in<Select
        size="sm"
        placeholder=""
        id="archive-second"
        items={[
          { value: "", name: "as the store says" },
          ...names(stores, draft.archive.second ?? "").filter((x) => x.value)
        ]}
        value={draft.archive.second ?? ""}
        onchange={(e) => set({ archive: { ...draft.archive, second: value(e) || undefined } })} /></Label>
    <Label
      >Rows move to the cold store<Select
        size="sm"
        placeholder=""
        id="cold-store"
        items={[
          { value: "", name: "never" },
          ...names(
            stores.filter((s) => s.bucket.class),
            draft.archive.cold_store ?? ""
          ).filter((x) => x.value)
        ]}
        value={draft.archive.cold_store ?? ""}
        onchange={(e) =>
          set({
            archive: {
              ...draft.archive,
              cold_store: value(e) || undefined,
              cold_after: value(e) ? (draft.archive.cold_after ?? "P90D") : undefined
            }
          })} /></Label>
    {#if draft.archive.cold_store}<Label
        >after<Input
          size="sm"
          id="cold-after"
          placeholder="P90D"
          value={draft.archive.cold_after ?? ""}
          oninput={(e) => set({ archive: { ...draft.archive, cold_after: value(e) || undefined } })} /></Label
      >{/if}
  {/if}
</div>
