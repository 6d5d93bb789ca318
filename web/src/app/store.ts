import { configureStore, createSlice, type PayloadAction } from '@reduxjs/toolkit';
import { useDispatch, useSelector } from 'react-redux';
import { api } from './api';

export type Theme = 'paper' | 'blueprint';

interface Interface {
  readonly theme: Theme;
  /** Texts that are typed and not kept yet, by workspace and path; they outlive a change of place. */
  readonly typed: Readonly<Record<string, string>>;
}

const wantsDark = () => window.matchMedia('(prefers-color-scheme: dark)').matches;
const storedTheme = (): Theme => (localStorage.getItem('theme') as Theme | null) ?? (wantsDark() ? 'blueprint' : 'paper');

const slice = createSlice({
  name: 'interface',
  initialState: (): Interface => ({ theme: storedTheme(), typed: {} }),
  reducers: {
    themeChosen: (state, { payload }: PayloadAction<Theme>) => ({ ...state, theme: payload }),
    textTyped: (state, { payload: { key, text } }: PayloadAction<{ key: string; text: string | null }>) => {
      const { [key]: _old, ...typed } = state.typed;
      return { ...state, typed: text === null ? typed : { ...typed, [key]: text } };
    },
  },
});

export const { themeChosen, textTyped } = slice.actions;

export const store = configureStore({
  reducer: { [api.reducerPath]: api.reducer, interface: slice.reducer },
  middleware: (defaults) => defaults({ serializableCheck: false, immutableCheck: false }).concat(api.middleware),
});

export type RootState = ReturnType<typeof store.getState>;
export const useAppDispatch = useDispatch.withTypes<typeof store.dispatch>();
export const useAppSelector = useSelector.withTypes<RootState>();
