<script setup lang="ts">
// One field of a form, in the form that suits what it asks for.
import type { Schemas } from '../api/client'
import { documentViewFormatValues as formats } from '../api/schema'
import Audiences from './Audiences.vue'
import AudiencesFrom from './AudiencesFrom.vue'
import BlockChanges from './BlockChanges.vue'
import SimpleInput from './SimpleInput.vue'
import Steps from './Steps.vue'
import Values from './Values.vue'
import { user } from '../session'
import type { Field, Keys, Value } from './field'

const value = defineModel<Value>({ required: true })
defineProps<{
  field: Field
  people: { value: string; label: string }[]
  dashboards: Schemas['DashboardView'][]
  chosen: string[]
  sources: Schemas['SourceView'][]
  names: Schemas['DefinitionName'][]
  disabled?: boolean
}>()
function upload(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  const reader = new FileReader()
  reader.onload = () => (value.value = String(reader.result))
  reader.readAsDataURL(file)
}
</script>

<template>
  <el-select v-if="field.as === 'team'" v-model="(value as string)" :empty-values="[null, undefined, '']" clearable :value-on-clear="''" :aria-label="field.title" placeholder="Everybody"><el-option v-for="one in user?.teams" :key="one" :value="one" :label="one" /></el-select>
  <el-select v-else-if="field.as === 'teams'" v-model="(value as string[])" multiple :aria-label="field.title" placeholder="Everybody"><el-option v-for="one in user?.teams" :key="one" :value="one" :label="one" /></el-select>
  <el-select v-else-if="field.as === 'people'" v-model="(value as string[])" multiple filterable allow-create default-first-option :aria-label="field.title" placeholder="People, groups, addresses"><el-option v-for="one in people" :key="one.value" :value="one.value" :label="one.label" /></el-select>
  <el-select v-else-if="field.as === 'dashboards'" v-model="(value as string[])" multiple filterable :aria-label="field.title" placeholder="Choose"><el-option v-for="one in dashboards" :key="one.name" :value="one.name" :label="one.title" /></el-select>
  <el-checkbox-group v-else-if="field.as === 'formats'" v-model="(value as string[])" :aria-label="field.title"><el-checkbox v-for="one in formats" :key="one" :value="one" :label="one.toUpperCase()" /></el-checkbox-group>
  <BlockChanges v-else-if="field.as === 'changes'" v-model="(value as Keys[])" :dashboards="dashboards" :chosen="chosen" />
  <Audiences v-else-if="field.as === 'audiences'" v-model="(value as Keys[])" :people="people" :names="names" :dashboards="chosen" />
  <AudiencesFrom v-else-if="field.as === 'audiences-from'" v-model="(value as Keys[])" :sources="sources" :names="names" />
  <Steps v-else-if="field.as === 'steps'" v-model="(value as Keys[])" :title="field.title" secret />
  <Values v-else-if="field.as === 'values'" :model-value="(value as Keys[])[0] ?? {}" :dashboards="chosen" @update:model-value="value = [$event]" />
  <div v-else-if="field.as === 'colour'" class="row"><input type="color" :value="String(value || '#0b4f6c')" :aria-label="`${field.title}, chosen`" @input="value = ($event.target as HTMLInputElement).value" /><el-input v-model="(value as string)" class="short" placeholder="#0b4f6c" :aria-label="field.title" /></div>
  <div v-else-if="field.as === 'picture'" class="row"><img v-if="String(value).startsWith('data:')" :src="String(value)" alt="The logo" height="36" /><input type="file" accept="image/png,image/jpeg,image/svg+xml" :aria-label="field.title" @change="upload" /><el-button v-if="value" size="small" @click="value = ''">Remove</el-button></div>
  <SimpleInput v-else v-model="value" :field="field" :names="names" :sources="sources" :disabled="disabled" />
</template>

<style scoped>
.short { width: 9rem; }
input[type='color'] { width: 2.4rem; height: 2rem; padding: 0; border: 1px solid var(--line); border-radius: 4px; background: none; }
</style>
