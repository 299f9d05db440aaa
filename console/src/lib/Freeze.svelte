<script lang="ts">
  // The switch that stops all work, and what is frozen now.
  import { Alert, Button, Input } from "./ui";
  import { api, take, type Problem, type Schemas } from "../api/client";
  import { whenChanged } from "./live";
  import { Loader, problemOf } from "./loader.svelte";
  import Act from "./Act.svelte";
  import Trouble from "./Trouble.svelte";
  import When from "./When.svelte";

  let { asking = $bindable() }: { asking: boolean } = $props();
  let reason = $state("");
  let lifting = $state("");
  let problem = $state<Problem>();
  const freezes = new Loader(() => take(api.GET("/freezes")));
  $effect(() => whenChanged(() => freezes.load()));

  async function act(fn: () => Promise<unknown>) {
    problem = undefined;
    try {
      await fn();
      reason = lifting = "";
      asking = false;
    } catch (e) {
      problem = problemOf(e);
    }
    await freezes.load();
  }
  const freeze = () => act(() => take(api.POST("/freezes", { body: { reason } })));
  const lift = (f: Schemas["Freeze"]) =>
    act(() =>
      take(api.POST("/freezes/{freeze}/lift", { params: { path: { freeze: f.id } }, body: { reason } }))
    );
</script>

{#each freezes.data?.items ?? [] as f (f.id)}
  <Alert color="red" class="mb-4" role="alert">
    <div class="flex flex-wrap items-center gap-3">
      <p class="min-w-0 flex-1 break-words">
        <b>Frozen: {f.where}.</b>
        {f.reason} (since <When at={f.placed_at} />, by {f.placed_by}{#if f.until}, until
          <When at={f.until} />{/if}). Nothing of the service's works there.
      </p>
      {#if lifting === f.id}
        <Input size="sm" class="w-56" aria-label="Why it is lifted" placeholder="why" bind:value={reason} />
        <Button size="xs" color="red" onclick={() => lift(f)}>Lift</Button>
      {:else}
        <Act right="administer" size="xs" color="alternative" onclick={() => (lifting = f.id)}>Lift …</Act>
      {/if}
    </div>
  </Alert>
{/each}
{#if asking}
  <Alert color="red" class="mb-4" role="alertdialog" aria-label="Freeze everything">
    <form
      class="flex flex-wrap items-center gap-3"
      onsubmit={(e) => {
        e.preventDefault();
        freeze();
      }}>
      <p class="min-w-0 flex-1">
        <b>Freeze everything?</b> All work on all databases stops within one batch, until somebody lifts it.
      </p>
      <Input
        size="sm"
        class="w-64"
        id="freeze-reason"
        aria-label="Why"
        placeholder="why; everyone is shown it"
        bind:value={reason} />
      <Button size="xs" color="red" type="submit" disabled={!reason.trim()}>Freeze</Button>
      <Button size="xs" color="alternative" onclick={() => (asking = false)}>Not now</Button>
    </form>
  </Alert>
{/if}
<Trouble {problem} />
