<script lang="ts">
  import { push, router } from "svelte-spa-router";
  import { Button, Input, Label } from "../../lib/ui";
  import { api, archivedTables, take, type Problem, type Schemas } from "../../api/client";
  import { plural } from "../../lib/format";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import RestorePreview from "./RestorePreview.svelte";
  import RestoreRows from "./RestoreRows.svelte";
  import RestoreTarget from "./RestoreTarget.svelte";
  import type { RestoreForm } from "./form";

  const asked = new URLSearchParams(router.querystring ?? "");
  const picked: string[] = asked.get("rows") ? JSON.parse(sessionStorage.getItem("picked") ?? "[]") : [];
  let form: RestoreForm = $state({
    kind: picked.length ? "rows" : asked.get("segment") ? "segment" : asked.get("run") ? "run" : "span",
    segment: asked.get("segment") ?? "",
    run: asked.get("run") ?? "",
    table: "",
    where: "",
    from: "",
    to: "",
    target: "table",
    format: "csv",
    conflicts: "skip",
    side: "",
    lasts: "",
    priority: "normal",
    tell: "",
    note: ""
  });
  let preview = $state<Schemas["RestorePreview"]>();
  let problem = $state<Problem>();
  let busy = $state(false);

  const segments = new Loader(() =>
    take(api.GET("/segments", { params: { query: { limit: 500, state: "closed" } } }))
  );
  segments.load();
  let closed = $derived(segments.data?.items ?? []);
  const unique = (list: string[]) => [...new Set(list)].map((name) => ({ value: name, name }));
  const archived = new Loader(archivedTables);
  archived.load();
  let tables = $derived(
    (archived.data?.items ?? []).map((t) => `${t.source}.${t.table}`).map((name) => ({ value: name, name }))
  );
  let choices = $derived([
    ...(form.segment && !closed.some((s) => s.id === form.segment)
      ? [{ value: form.segment, name: form.segment }]
      : []),
    ...closed.map((s) => ({
      value: s.id,
      name: `${s.source}.${s.table}, ${s.oldest.slice(0, 10)} to ${s.newest.slice(0, 10)} (${s.id.slice(-8)})`
    }))
  ]);
  // The newest, and the one that was asked for.
  let runs = $derived(unique([...(form.run ? [form.run] : []), ...closed.map((s) => s.run)]));

  // What was shown is of another request as soon as a field changes.
  $effect(() => {
    void [
      form.kind,
      form.segment,
      form.run,
      form.table,
      form.where,
      form.from,
      form.to,
      form.target,
      form.conflicts,
      form.side
    ];
    preview = undefined;
  });

  function request(): Schemas["RestoreRequest"] {
    const body: Schemas["RestoreRequest"] = { scope: {}, target: form.target, note: form.note };
    if (form.tell) body.tell = form.tell;
    if (preview?.cold) body.priority = form.priority;
    if (form.target === "file") body.format = form.format;
    if (form.target === "table") body.conflicts = form.conflicts;
    if (form.target === "table" && form.lasts && form.conflicts !== "replace") body.for = form.lasts;
    if (form.target === "side" && form.side) body.target_table = form.side;
    if (form.kind === "rows")
      body.scope.rows = picked.map((p) => {
        const [segment, ordinal] = p.split(":");
        return { segment, ordinal: Number(ordinal) };
      });
    else if (form.kind === "segment") body.scope.segment = form.segment;
    else if (form.kind === "run") body.scope.run = form.run;
    else {
      const dot = form.table.indexOf(".");
      Object.assign(body, {
        source: form.table.slice(0, dot),
        table: form.table.slice(dot + 1),
        scope: {
          ...(form.where && { where: form.where }),
          ...(form.from && { from: form.from }),
          ...(form.to && { to: form.to }),
          ...(!form.where && !form.from && !form.to && { all: true })
        }
      });
    }
    return body;
  }
  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    problem = undefined;
    try {
      if (!preview) preview = await take(api.POST("/restores/preview", { body: request() }));
      else {
        await take(api.POST("/restores", { body: request() }));
        push("/restores");
      }
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<Page
  title="Request a restore"
  about="Each segment is verified as a whole before a row of it is given back."
  back={{ href: "#/restores", text: "Restores" }}>
  <Trouble problem={segments.problem ?? archived.problem ?? problem} />
  {#if segments.data && archived.data}<!-- a choice that is given with the address needs its options to be there -->
    <Panel class="max-w-2xl">
      <form onsubmit={submit} class="space-y-4 p-4">
        <RestoreRows bind:form {picked} {tables} {runs} segments={choices} />
        <RestoreTarget bind:form />
        <div class="space-y-1">
          <Label for="note">Who asked, and why</Label><Input id="note" bind:value={form.note} />
        </div>
        <div class="space-y-1">
          <Label for="tell">Who is told when it is ready</Label><Input
            id="tell"
            bind:value={form.tell}
            placeholder="a mail address, or a URL; nobody if left out"
            spellcheck="false" />
        </div>
        {#if preview}<RestorePreview bind:form {preview} />{/if}
        <Button type="submit" disabled={busy || (preview?.rows === 0 && !preview.cold)}
          >{preview
            ? preview.cold
              ? "Retrieve and restore"
              : `Restore ${plural(preview.rows, "row")}`
            : busy
              ? "Looking …"
              : "See what comes back"}</Button>
      </form>
    </Panel>
  {/if}
</Page>
