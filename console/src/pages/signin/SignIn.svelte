<script lang="ts">
  import { Button, Input, Label } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  let { done }: { done: (session: Schemas["Session"], password: string) => void } = $props();
  let by = $state<"name" | "token">("name");
  let token = $state("");
  let name = $state("");
  let password = $state("");
  let code = $state("");
  let asksCode = $state(false);
  let busy = $state(false);
  let problem = $state<Problem>();

  let single = $state(false);
  take(api.GET("/session/ways")).then(
    (ways) => (single = ways.single),
    () => {}
  );

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    problem = undefined;
    try {
      const body =
        by === "token" ? { token: token.trim() } : { name: name.trim(), password, code: code.trim() };
      done(await take(api.POST("/session", { body })), password);
    } catch (e) {
      problem = problemOf(e);
      if (problem.type.endsWith(":second-factor")) {
        asksCode = true;
        problem = undefined;
      }
    }
    busy = false;
  }
</script>

<svelte:head><title>Sign in · Amber Cellar</title></svelte:head>
<main class="mx-auto flex min-h-screen max-w-sm flex-col justify-center px-4">
  <div class="mb-6 flex items-center gap-3">
    <img src="/icon.svg" alt="" class="h-9 w-9" />
    <h1 class="text-xl font-semibold">Amber Cellar</h1>
  </div>
  <Trouble {problem} />
  <form onsubmit={submit} class="space-y-3">
    {#if by === "name"}
      <Label
        >Name<Input
          id="name"
          class="mt-1"
          autocomplete="username"
          autofocus
          required
          bind:value={name} /></Label>
      <Label
        >Password<Input
          id="password"
          class="mt-1"
          type="password"
          autocomplete="current-password"
          required
          bind:value={password} /></Label>
      {#if asksCode}<Label
          >Code that your app shows<Input
            id="code"
            class="mt-1"
            inputmode="numeric"
            autocomplete="one-time-code"
            required
            bind:value={code} /></Label
        >{/if}
    {:else}
      <Label
        >Token<Input
          id="token"
          class="mt-1"
          type="password"
          autocomplete="off"
          required
          bind:value={token}
          placeholder="amber_…" /></Label>
    {/if}
    <Button type="submit" class="w-full" disabled={busy}>Sign in</Button>
  </form>
  {#if single}<Button class="mt-3 w-full" color="alternative" href="/api/v1/session/single"
      >Sign in by single sign-on</Button
    >{/if}
  <button
    class="text-link mt-4 self-start text-sm"
    onclick={() => {
      by = by === "name" ? "token" : "name";
      problem = undefined;
    }}>{by === "name" ? "With a token" : "With a name and a password"}</button>
  <p class="mt-2 text-sm text-gray-500 dark:text-gray-400">
    {#if by === "name"}
      An administrator makes an account for you, and gives a new password where one was forgotten.
    {:else}
      The administrator's token was written into a file of the data directory when the service first started;
      <code>ambercellar serve -new-token</code> makes a new one. With it, <code>ambercellar user add</code> makes
      the first person.
    {/if}
  </p>
</main>
