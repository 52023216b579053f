<script setup lang="ts">
// Shows what is being waited for, or why it did not come.
defineProps<{ error: string | null; ready: boolean }>()
defineEmits<{ again: [] }>()
</script>

<template>
  <el-alert v-if="error" type="error" :closable="false" show-icon :title="error" role="alert">
    <el-button size="small" @click="$emit('again')">Try again</el-button>
  </el-alert>
  <div v-else-if="!ready" class="card" aria-busy="true"><el-skeleton :rows="4" animated /></div>
  <slot v-else />
</template>
