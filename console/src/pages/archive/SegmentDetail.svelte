<script lang="ts">
  import { Alert, Button, Select } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { age, count, size } from "../../lib/format";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import { who } from "../../lib/who.svelte";
  import Act from "../../lib/Act.svelte";
  import Cold from "../../lib/Cold.svelte";
  import Facts from "../../lib/Facts.svelte";
  import { proof } from "./proof";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  let { params }: { params: { segment: string } } = $props();
  const segment = new Loader(() => take(api.GET("/segments/{segment}", { params: { path: params } })));
  $effect(() => {
    segment.load();
  });
  let s = $derived(segment.data);
  let asleep = $derived(!!s?.cold && !s.second && !(s.warm_until && new Date(s.warm_until) > new Date()));
  const stores = new Loader(() => take(api.GET("/stores")));
  if (who.may("see")) stores.load();
  let others = $derived(
    (stores.data?.items ?? [])
      .filter((x) => s && x.name !== (s.rows_store || s.store) && x.name !== s.second)
      .map((x) => ({ value: x.name, name: x.name + (x.bucket.class ? " (cold)" : "") }))
  );
  let to = $state("");
  let cold = $state<Schemas["Chilled"]>();
  $effect(() => {
    if (asleep)
      take(api.POST("/retrievals/preview", { body: { segments: [params.segment] } })).then(
        (c) => (cold = c.segments.length ? c : undefined),
        (e) => (problem = problemOf(e))
      );
  });
  async function move() {
    busy = true;
    problem = undefined;
    try {
      const now = await take(
        api.POST("/segments/{segment}/move", { params: { path: params }, body: { to } })
      );
      if (segment.data) segment.data = { ...segment.data, ...now };
      to = "";
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
  let problem = $state<Problem>();
  let verified = $state(false);
  let busy = $state(false);

  async function verify() {
    busy = true;
    problem = undefined;
    verified = false;
    try {
      const now = await take(api.POST("/segments/{segment}/verify", { params: { path: params } }));
      if (segment.data) segment.data = { ...segment.data, ...now };
      verified = true;
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<Page
  title="Segment {params.segment}"
  about={s ? `${s.source}.${s.table}` : ""}
  back={{ href: "#/archive", text: "Archive" }}>
  {#snippet actions()}
    <Act
      right="operate"
      source={s?.source}
      size="sm"
      color="alternative"
      disabled={busy || s?.state === "disposed" || asleep}
      onclick={verify}>{busy ? "Reading every row …" : "Verify"}</Act>
    <Act
      right="operate"
      source={s?.source}
      size="sm"
      disabled={s?.state !== "closed"}
      href="#/restores/request?segment={params.segment}">Restore</Act>
  {/snippet}
  <Trouble problem={segment.problem ?? problem} />
  {#if s?.damage && !verified}<Alert color="red" class="mb-3" role="alert"
      ><p class="font-semibold">This segment is damaged.</p>
      <p class="break-words">{s.damage}</p>
      {#if s.second}<p>
          It is read from its second copy in {s.second}; verifying with repair, on the page before, replaces
          what is damaged.
        </p>{:else}<p>
          There is no second copy. Bring the file back from a backup of the store, then verify it.
        </p>{/if}</Alert
    >{/if}
  {#if s?.state === "disposed"}<Alert color="gray" class="mb-3"
      >Its rows were destroyed by <a class="text-link" href="#/disposals">disposal {s.disposal}</a>; manifest,
      closing record and the record of that remain.</Alert
    >{/if}
  {#if verified}<Alert color="green" class="mb-3" role="status"
      >The segment is what was written: file hash, manifest, closing record and the digest of all rows agree.</Alert
    >{/if}
  {#if s}
    {#snippet state()}<State state={s!.state} />{/snippet}
    {#snippet run()}<a class="text-link" href="#/runs/{s!.run}">{s!.run}</a>{/snippet}
    {#snippet created()}<When at={s!.created_at} />{/snippet}
    {#snippet closed()}<When at={s!.closed_at} none="not yet" />{/snippet}
    {#snippet checked()}<When at={s!.verified_at} none="not yet" />{/snippet}
    {#snippet second()}{#if s!.second}in {s!.second}, since <When
          at={s!.second_at}
          day />{:else}none{/if}{/snippet}
    {#snippet keep()}<When at={s!.keep_until} none="without end" />{/snippet}
    {#snippet rows()}{s!.rows_store || s!.store}{#if s!.cold}, cold{#if s!.second}; they are read from the
          second copy in {s!.second}{/if}{:else if s!.cold_at && !s!.rows_store}; they move to {s!.cold_store} on
        <When at={s!.cold_at} day />{/if}{/snippet}
    {#snippet warm()}<When at={s!.warm_until} />{/snippet}
    {#snippet rewrites()}{#if s!.rewrites}the rows that stayed of <a
          class="text-link"
          href="#/archive/{s!.rewrites}">{s!.rewrites}</a
        >{/if}{/snippet}
    {#if cold}<div class="mb-3"><Cold {cold} ask /></div>{/if}
    <Panel title="What it holds">
      <Facts
        facts={[
          ["State", state],
          ["Rows copied", count(s.rows)],
          ["Deleted from the table", count(s.deleted)],
          ["Changed meanwhile", count(s.changed)],
          ["Vanished meanwhile", count(s.vanished)],
          ["Skipped", count(s.skipped)],
          ["Oldest", age(s.oldest)],
          ["Newest", age(s.newest)],
          ["As read", size(s.raw_bytes)],
          ["File", size(s.file_bytes)],
          ["Run", run],
          ["Stored", created],
          ["Closed", closed],
          ["Verified", checked],
          ["Kept", keep],
          ["Second copy", second],
          ["Rows lie in", rows],
          ...(s.cold && s.warm_until && !s.second
            ? [["Retrieved copy until", warm] as [string, typeof warm]]
            : []),
          ...(s.rewrites ? [["Holds", rewrites] as [string, typeof rewrites]] : []),
          ["Went along with", s.goes_with ? `rows of ${s.goes_with.table}` : ""],
          ["Joined columns", s.included.join(", ")],
          ["Columns left out", s.omitted.join(", ")],
          [
            "Masked",
            Object.entries(s.masked ?? {})
              .map(([c, m]) => `${c} (${m})`)
              .join(", ")
          ],
          ["Kept beside", s.beside.map((b) => `${count(b.rows)} rows of ${b.table}`).join("; ")]
        ]} />
    </Panel>
    {#if s.state === "closed" && others.length}
      <Panel title="Where its rows lie">
        <form
          class="flex flex-wrap items-center gap-3 px-4 py-3 text-sm"
          onsubmit={(e) => {
            e.preventDefault();
            move();
          }}>
          <span>They lie in {s.rows_store || s.store}; its records stay in {s.store}. Move them to</span>
          <Select
            size="sm"
            class="w-48"
            aria-label="store to move the rows to"
            items={others}
            bind:value={to}
            placeholder="choose a store" />
          <Button size="xs" type="submit" disabled={busy || !to || asleep}
            >{busy ? "Moving …" : "Move"}</Button>
          {#if asleep}<span class="text-gray-600 dark:text-gray-400">They have to be retrieved first.</span
            >{/if}
        </form>
      </Panel>
    {/if}
    <Panel title="Proof">
      <dl class="space-y-1 px-4 py-3 font-mono text-xs">
        {#each proof(s) as [name, v] (name)}
          <div class="flex gap-4">
            <dt class="w-44 shrink-0 font-sans text-gray-500 dark:text-gray-400">{name}</dt>
            <dd class="break-all">{v}</dd>
          </div>
        {/each}
      </dl>
    </Panel>
  {/if}
</Page>
