import { configureStore, createSlice, type PayloadAction } from '@reduxjs/toolkit';
import { useDispatch, useSelector } from 'react-redux';
import { api } from './api';
import type { TypedText, TypedTexts } from './unsaved';

export type Theme = 'paper' | 'blueprint';

interface Interface {
  readonly theme: Theme;
  /** Texts that are typed and not kept yet, by workspace and path; they outlive a change of place. */
  readonly typed: TypedTexts;
}

const wantsDark = () => window.matchMedia('(prefers-color-scheme: dark)').matches;
const storedTheme = (): Theme =>
  (localStorage.getItem('theme') as Theme | null) ?? (wantsDark() ? 'blueprint' : 'paper');

const slice = createSlice({
  name: 'interface',
  initialState: (): Interface => ({ theme: storedTheme(), typed: {} }),
  reducers: {
    themeChosen: (state, { payload }: PayloadAction<Theme>) => ({ ...state, theme: payload }),
    /** Null: the text is saved, or as it was. */
    textTyped: (state, { payload: { key, typed: now } }: PayloadAction<{ key: string; typed: TypedText | null }>) => {
      const { [key]: _old, ...typed } = state.typed;
      return { ...state, typed: now === null ? typed : { ...typed, [key]: now } };
    },
    /** What is typed already is newer. */
    textsRestored: (state, { payload }: PayloadAction<TypedTexts>) => ({
      ...state,
      typed: { ...payload, ...state.typed },
    }),
    textsForgotten: (state) => ({ ...state, typed: {} }),
  },
});

export const { themeChosen, textTyped, textsRestored, textsForgotten } = slice.actions;

export const store = configureStore({
  reducer: { [api.reducerPath]: api.reducer, interface: slice.reducer },
  middleware: (defaults) => defaults({ serializableCheck: false, immutableCheck: false }).concat(api.middleware),
});

export type RootState = ReturnType<typeof store.getState>;
export const useAppDispatch = useDispatch.withTypes<typeof store.dispatch>();
export const useAppSelector = useSelector.withTypes<RootState>();
