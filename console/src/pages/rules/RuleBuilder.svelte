<script lang="ts">
  // A rule being written, as a form and as text, which say the same; beside it what it would do, as it is typed.
  import { push, router } from "svelte-spa-router";
  import { Alert, Button, Textarea } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import { count } from "../../lib/format";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Reason from "../../lib/Reason.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";
  import FormOrText from "./FormOrText.svelte";
  import RuleForm from "./RuleForm.svelte";
  import WouldDo, { countedUnasked } from "./WouldDo.svelte";
  import { blank, tidy, type Draft } from "./draft";
  import { guardEdits } from "../../lib/unsaved";

  let { params }: { params?: { rule?: string } } = $props();
  const asked = new URLSearchParams(router.querystring ?? "");
  let draft = $state<Draft>();
  let text = $state("");
  let view = $state<"form" | "text">("form");
  let preview = $state<Schemas["Preview"]>();
  let compared = $state<Schemas["Compared"]>();
  let problem = $state<Problem>();
  let reason = $state("");
  let dirty = $state(false);
  let busy = $state(false);
  let timer: ReturnType<typeof setTimeout>;
  let typed: (() => Schemas["Draft"]) | undefined; // what nobody has looked at yet
  let looking: Promise<void> = Promise.resolve();
  let counting = $state(false);
  let counter = new AbortController();
  let asking = 0;

  async function begin() {
    try {
      if (params?.rule) {
        text = (await take(api.GET("/rules/{rule}", { params: { path: { rule: params.rule } } }))).text;
        await look({ text });
      } else {
        const stores = await take(api.GET("/stores"));
        const sources = await take(api.GET("/sources"));
        draft = blank(
          asked.get("source") ?? sources.items[0]?.name ?? "",
          asked.get("table") ?? "",
          asked.get("age") ?? "",
          stores.items[0]?.name ?? ""
        );
        await look({ rule: tidy(draft) });
      }
    } catch (e) {
      problem = problemOf(e);
    }
  }
  begin();
  $effect(() => guardEdits(() => dirty));

  $effect(() => () => {
    clearTimeout(timer);
    counter.abort();
  });

  // look asks what the rule would do; an answer that comes too late is dropped. What was estimated is counted next,
  // unless somebody types on.
  function look(body: Schemas["Draft"]): Promise<void> {
    const answered = ask(body);
    if (!body.exact) looking = answered; // nobody waits for counts
    return answered;
  }
  async function ask(body: Schemas["Draft"]) {
    const turn = ++asking;
    counter.abort();
    counter = new AbortController();
    counting = !!body.exact;
    try {
      const answer = await take(api.POST("/rules/preview", { body, signal: counter.signal }));
      if (turn !== asking) return;
      counting = false;
      if (
        !body.exact &&
        answer.plan &&
        answer.plan.counts.spread.length < 2 &&
        answer.plan.counts.total <= countedUnasked
      )
        timer = setTimeout(() => look({ ...body, exact: true }), 700);
      preview = answer;
      if (body.exact) return; // what stands in the form and in the text is what was asked about
      problem = compared = undefined;
      if (body.rule) text = answer.text;
      else if (answer.rule) draft = answer.rule;
    } catch (e) {
      if (turn !== asking) return;
      counting = false;
      problem = problemOf(e);
    }
  }
  function later(body: () => Schemas["Draft"]) {
    dirty = true;
    clearTimeout(timer);
    typed = body;
    timer = setTimeout(seen, 300);
  }
  // seen has what was typed last looked at, so that what is compared and saved is what stands there.
  async function seen() {
    clearTimeout(timer);
    const body = typed;
    typed = undefined;
    await (body ? look(body()) : looking);
  }
  function edit(d: Draft) {
    draft = d;
    later(() => ({ rule: tidy($state.snapshot(d) as Draft) }));
  }
  async function act(fn: () => Promise<void>) {
    busy = true;
    problem = undefined;
    try {
      await seen();
      if (problem) return;
      await fn();
    } catch (e) {
      problem = problemOf(e);
    } finally {
      busy = false;
    }
  }
  const compare = () =>
    act(async () => void (compared = (await take(api.POST("/rules/compare", { body: { text } }))).rules[0]));
  const save = () =>
    act(async () => {
      const r = await take(api.POST("/rules", { body: { text, ...(reason && { reason }) } }));
      dirty = false;
      push(asked.get("next") === "start" ? "/start" : `/rules/${r.applied[0].rule}`);
    });
  let mistakes = $derived(preview?.problems.filter((p) => !p.warning) ?? []);
  let plan = $derived(preview?.plan ?? undefined);
</script>

<Page
  title={params?.rule ? `Change rule ${params.rule}` : "New rule"}
  about="Nothing is changed before you save; rows go only when a plan is run, by somebody or by the schedule."
  back={{ href: params?.rule ? `#/rules/${params.rule}` : "#/rules", text: params?.rule ?? "Rules" }}>
  {#snippet actions()}
    <Button size="sm" color="alternative" disabled={busy || mistakes.length > 0} onclick={compare}
      >Compare</Button>
    <Button size="sm" disabled={busy || (!dirty && !!params?.rule)} onclick={save}>Save</Button>
  {/snippet}
  <div aria-live="polite">
    <Trouble {problem} />
    {#if problem?.field === "reason"}<Reason bind:reason text="Save with this reason" {save} />{/if}
    {#if compared}<Alert color="blue" class="mb-4"
        >{compared.new ? "This rule is new: " : ""}{count(compared.gained)} rows become due, {count(
          compared.lost
        )} stop being due, {count(compared.both)} are due either way. {compared.changes.join("; ")}</Alert
      >{/if}
  </div>
  <div class="grid items-start gap-x-4 xl:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
    <Panel>
      <FormOrText bind:view />
      {#if view === "form"}
        {#if draft}<RuleForm {draft} change={edit} />{:else}<p class="p-4 text-sm">
            The text cannot be read as a rule; mend it under YAML.
          </p>{/if}
      {:else}
        <div class="p-3">
          <label for="yaml" class="sr-only">The rule as YAML</label><Textarea
            id="yaml"
            rows={22}
            bind:value={text}
            oninput={() => later(() => ({ text }))}
            class="w-full font-mono text-sm"
            spellcheck="false" />
        </div>
      {/if}
    </Panel>
    <div>
      {#if mistakes.length}<Trouble
          problem={{
            type: "",
            title: "The rule cannot be saved yet",
            status: 422,
            detail: "",
            problems: mistakes
          }} />{/if}
      {#if plan}
        <WouldDo {plan} {counting} ask={() => look({ text, exact: true })} />
        {#each plan.warnings as w (w)}<Warning class="mb-2">{w}</Warning>{/each}
      {/if}
    </div>
  </div>
</Page>
