<template>
  <div class="card stack">
    <h1>There is nothing here</h1>
    <p class="muted">The address may be mistyped, or what it led to may be gone.</p>
    <p><RouterLink to="/">Go to the overview</RouterLink></p>
  </div>
</template>
